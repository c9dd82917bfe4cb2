// Package follow finds in a program's files where functions begin and end, and where the Go runtime lets
// goroutines wait and run, and makes the events of it.
package follow

import (
	"errors"
	"fmt"
	"path/filepath"

	"entelon/capture/rings"
	"entelon/linux/bpf"
	"entelon/symbol"
)

// Goroutines are the events that follow the goroutines of a program: of those that wait, and where
// wakers are asked for, of those that let them go on. The error is symbol.ErrNoGo where no file is a Go
// program.
func Goroutines(files []string, wakers bool) ([]*rings.Event, error) {
	for _, path := range files {
		points, err := routinePoints(path)
		if errors.Is(err, symbol.ErrNoGo) || errors.Is(err, errNotCode) {
			continue
		}
		if err != nil {
			return nil, err
		}
		out := []*rings.Event{{Role: rings.RolePark, Routines: &rings.Routines{Path: path, Points: points}}}
		if wakers {
			out = append(out, &rings.Event{Role: rings.RoleReadied})
		}
		return out, nil
	}
	name := "the program"
	if len(files) > 0 {
		name = filepath.Base(files[0])
	}
	return nil, fmt.Errorf("goroutines of %s: %w", name, symbol.ErrNoGo)
}

// routinePoints finds in a file where its runtime lets goroutines wait and run.
func routinePoints(path string) (p bpf.RoutinePoints, err error) {
	err = within(path, func(o *symbol.Object) error {
		g, err := symbol.GoScheduleOf(o)
		if err != nil {
			return err
		}
		places, ok := symbol.GoRuntimeOf(o)
		if !ok {
			return fmt.Errorf("%s: its runtime does not show where it has its threads", path)
		}
		p = bpf.RoutinePoints{
			Parks: g.Parks, Ready: g.Ready, Runs: g.Runs, Ends: g.Ends,
			NumberAt: g.Number, ThreadAt: places.M, SchedAt: places.Sched, CurrentAt: places.Current,
		}
		if places.Labels != 0 { // else it has them in a way that is not read
			p.Labels = g.Labels
		}
		return nil
	})
	return p, err
}
