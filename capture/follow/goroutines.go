// Package follow finds in a program's files where functions begin and end, and where the Go runtime lets
// goroutines wait and run, and makes the events of it.
package follow

import (
	"errors"
	"fmt"
	"path/filepath"

	"entelon/capture/rings"
	"entelon/core/profile"
	"entelon/linux/bpf"
	"entelon/symbol"
	"entelon/symbol/elfimage"
)

// Goroutines are the events that follow the goroutines of a program: of those that wait, and where
// wakers are asked for, of those that let them go on. The error is symbol.ErrNoGo where no file is a Go
// program.
func Goroutines(files []string, wakers bool) ([]*rings.Event, error) {
	for _, path := range files {
		points, err := routinePoints(path)
		if errors.Is(err, symbol.ErrNoGo) {
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
	f, err := elfimage.OpenRegular(path)
	if err != nil {
		return p, err
	}
	o, err := symbol.OpenObject(f, path, profile.KindOwn, nil)
	if err != nil {
		return p, symbol.ErrNoGo // not a file of code
	}
	defer func() { err = errors.Join(err, o.Close()) }()
	if !o.HasGoSection() {
		return p, symbol.ErrNoGo
	}
	g, err := symbol.GoScheduleOf(o)
	if err != nil {
		return p, err
	}
	places, ok := symbol.GoRuntimeOf(o)
	if !ok {
		return p, fmt.Errorf("%s: it cannot be told where its runtime has its threads", path)
	}
	return bpf.RoutinePoints{
		Parks: g.Parks, Ready: g.Ready, Runs: g.Runs, Ends: g.Ends,
		NumberAt: g.Number, ThreadAt: places.M, SchedAt: places.Sched, CurrentAt: places.Current,
	}, nil
}
