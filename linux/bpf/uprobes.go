package bpf

import (
	"errors"
	"fmt"
	"unsafe"

	"github.com/cilium/ebpf"
	"github.com/cilium/ebpf/link"

	"entelon/linux/perf"
)

// ErrManyProbes is the error about a kernel that cannot attach a program to many places of a file at
// once, which Linux can from 6.6 on.
var ErrManyProbes = errors.New("this kernel cannot follow functions from their beginning to their end; Linux 6.6 or newer can")

// SpanPoint is an instruction at which a function begins or ends.
type SpanPoint struct {
	Offset   uint64 // in the file
	Event    int    // of the collection
	Function int    // its number among the event's
	NumberAt uint32 // of Go, where a goroutine has its number; 0: it is not of Go
	// Wanted is where a program has a count of who wants a static probe, without which it does not
	// come there, as an offset in the file; 0: it always does.
	Wanted uint64
}

// MaxSpanFunctions is how many functions one event can be of.
const MaxSpanFunctions = 1 << 16

// Spans follows calls of functions of a file.
func (t *Tally) Spans(path string, begins, ends []SpanPoint) error {
	return t.follow(path, tallyProgSpanBegins, begins, tallyProgSpanEnds, ends)
}

// Pairs follows what is between pairs of static probes of a file.
func (t *Tally) Pairs(path string, begins, ends []SpanPoint) error {
	return t.follow(path, tallyProgPairBegins, begins, tallyProgPairEnds, ends)
}

func (t *Tally) follow(path, beginning string, begins []SpanPoint, ending string, ends []SpanPoint) error {
	cookie := func(p SpanPoint) uint64 { return uint64(p.Event) | uint64(p.Function)<<16 | uint64(p.NumberAt)<<32 }
	// Ends first: a call that begins meanwhile is then never without one.
	for _, x := range []struct {
		program string
		points  []SpanPoint
	}{{ending, ends}, {beginning, begins}} {
		var o link.UprobeMultiOptions
		wanted := false
		for _, p := range x.points {
			o.Addresses, o.Cookies, o.RefCtrOffsets = append(o.Addresses, p.Offset), append(o.Cookies, cookie(p)), append(o.RefCtrOffsets, p.Wanted)
			wanted = wanted || p.Wanted != 0
		}
		if !wanted {
			o.RefCtrOffsets = nil
		}
		if err := t.probe(x.program, path, nil, o); err != nil {
			return err
		}
	}
	return nil
}

// RoutinePoints are where a Go program's runtime lets goroutines wait and run, as offsets in its file,
// and where it keeps what: a goroutine its number, its thread and where it left its stack, a thread
// the goroutine that it runs for.
type RoutinePoints struct {
	Parks, Ready, Runs, Ends               uint64
	Labels                                 uint64 // where a goroutine is given labels; 0: the program gives none
	NumberAt, ThreadAt, SchedAt, CurrentAt uint32
}

// Routines follows the goroutines of a program's file. Their waits are of one event, and who ends them of
// another; -1: that is not asked for.
func (t *Tally) Routines(path string, p RoutinePoints, parks, ready int) error {
	cookie := uint64(p.NumberAt) | uint64(p.ThreadAt)<<16 | uint64(p.CurrentAt)<<32 | uint64(p.SchedAt)<<48
	for _, x := range []struct {
		program string
		at      uint64
		event   int
	}{{tallyProgRoutineLabelled, p.Labels, parks}, {tallyProgRoutineEnds, p.Ends, parks}, {tallyProgRoutineRuns, p.Runs, parks}, {tallyProgRoutineReady, p.Ready, ready}, {tallyProgRoutineParks, p.Parks, parks}} {
		if x.event < 0 || x.at == 0 {
			continue
		}
		set := map[string]uint32{tallyVarParksNumber: uint32(parks), tallyVarEventNumber: uint32(x.event)}
		if p.Labels != 0 {
			set[tallyVarWithLabels] = 1
		}
		if err := t.probe(x.program, path, set, link.UprobeMultiOptions{Addresses: []uint64{x.at}, Cookies: []uint64{cookie}}); err != nil {
			return err
		}
	}
	return nil
}

// probe has a program run at places of a file.
func (t *Tally) probe(name, path string, set map[string]uint32, o link.UprobeMultiOptions) error {
	p := t.probing[name]
	if p == nil {
		var err error
		if p, err = t.load(name, ebpf.Kprobe, set); err != nil {
			return err
		}
		t.probing[name] = p
	}
	file, err := link.OpenExecutable(path)
	if err != nil {
		return fmt.Errorf("opening %s for probes: %w", path, err)
	}
	l, err := file.UprobeMulti(nil, p, &o)
	switch {
	case errors.Is(err, link.ErrNotSupported):
		return ErrManyProbes
	case err != nil:
		return fmt.Errorf("probing %s: %w", path, err)
	}
	t.links = append(t.links, l)
	return nil
}

// Routine is what came of a goroutine (struct routine_record). Times are monotonic nanoseconds.
type Routine struct {
	Wait          TallyInterval // Begin is 0 where it did not wait
	Goroutine     uint64
	ByGoroutine   uint64 // that ended the wait; 0: the runtime itself did
	Carried, Left uint64 // since when a thread carried it, and since when that carried another one; 0: it did not
	Carrier       uint32 // that thread
}

// routineBytes is how much of a routine_record stands behind its header.
const routineBytes = int(unsafe.Sizeof(tallyRoutineRecord{})) - HeaderBytes

// DecodeRoutine reads a record of KindRoutine; ok is false where it is cut short.
func DecodeRoutine(h Header, b []byte) (x Routine, ok bool) {
	if len(b) < routineBytes {
		return x, false
	}
	x.Wait = TallyInterval{Key: decodeKey(b), Begin: h.Addr, End: h.Low, Woken: h.High, Processor: uint32(h.Pc)}
	x.Wait.Waker = decodeKey(b[tallyKeyBytes:])
	rest := b[2*tallyKeyBytes:]
	word := func(i int) uint64 { return perf.Word(rest[8*i:]) }
	x.Goroutine, x.ByGoroutine, x.Carried, x.Left, x.Carrier = word(0), word(1), word(2), word(3), uint32(word(4))
	x.Wait.HasWaker = x.ByGoroutine != 0 && x.Wait.Waker.Flags&tallyNobody == 0
	return x, true
}

// Label is what a goroutine does from a time on, as its program says (struct label_record).
type Label struct {
	PID, TID  uint32
	Goroutine uint64
	Time      uint64 // monotonic nanoseconds
	Name      []byte // none: nothing that has a name
	Cut       bool   // the name is longer
}

// DecodeLabelled reads a record of KindLabel.
func DecodeLabelled(h Header, b []byte) Label {
	return Label{PID: uint32(h.Sp), TID: uint32(h.Pc), Goroutine: h.Low, Time: h.Addr, Name: b, Cut: h.High > uint64(len(b))}
}
