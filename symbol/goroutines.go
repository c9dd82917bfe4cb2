package symbol

import (
	"errors"
	"fmt"

	"golang.org/x/arch/x86/x86asm"
)

// GoSchedule says where the scheduler of a Go program lets goroutines wait and run, as offsets in its
// file, and where a goroutine has its number.
type GoSchedule struct {
	Parks  uint64 // runtime.gopark: the goroutine that runs is about to wait
	Ready  uint64 // runtime.ready: one that waits may go on
	Runs   uint64 // runtime.execute: a thread takes one up
	Ends   uint64 // runtime.goexit1: the one that runs ends
	Labels uint64 // where the one that runs is given labels; 0: the program gives none
	Number uint32 // in a goroutine's record
}

// ErrNoGo is the error about a file that is not a Go program.
var ErrNoGo = errors.New("it is not a Go program")

// GoScheduleOf finds them. The number stands behind the goroutine's state, in every version of Go so
// far, and where that is can be read off the function that changes it.
func GoScheduleOf(o *Object) (g GoSchedule, err error) {
	if !o.HasGoSection() {
		return g, fmt.Errorf("%s: %w", o.Path, ErrNoGo)
	}
	places := map[string]*uint64{"runtime.gopark": &g.Parks, "runtime.ready": &g.Ready, "runtime.execute": &g.Runs, "runtime.goexit1": &g.Ends}
	for name, at := range places {
		defined, err := FunctionsByName(o, name)
		if err != nil {
			return g, err
		}
		for _, d := range defined {
			if d.Name == name && d.Linkage == name {
				*at = d.Offset
			}
		}
		if *at == 0 {
			return g, fmt.Errorf("%s: its runtime has no %s, so its goroutines cannot be followed", o.Path, name)
		}
	}
	if defined, err := FunctionsByName(o, setsLabels); err == nil { // most programs give no labels
		for _, d := range defined {
			if d.Name == setsLabels {
				g.Labels = d.Offset
			}
		}
	}
	var code []byte
	o.GoFrames(func(f GoFunction) {
		if f.Name == "runtime.casgstatus" {
			code = codeAt(o, f.Start, f.End)
		}
	})
	if g.Number = statePlace(code); g.Number == 0 {
		return g, fmt.Errorf("%s: its runtime does not show where goroutines have their numbers", o.Path)
	}
	g.Number += stateBytes
	return g, nil
}

// setsLabels is the function by which a program gives a goroutine labels.
const setsLabels = "runtime/pprof.runtime_setProfLabel"

// stateBytes is how long a goroutine's state is, with the lock of its stack behind it.
const stateBytes = 8

// statePlace finds what runtime.casgstatus exchanges first. 0 where there is nothing.
func statePlace(code []byte) uint32 {
	for at := 0; at < len(code); {
		in, err := x86asm.Decode(code[at:], 64)
		if err != nil {
			return 0
		}
		at += in.Len
		if to, memory := in.Args[0].(x86asm.Mem); memory && in.Op == x86asm.CMPXCHG && to.Disp > 0 && to.Disp < 1<<12 {
			return uint32(to.Disp)
		}
	}
	return 0
}
