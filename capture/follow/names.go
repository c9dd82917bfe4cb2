package follow

import (
	"errors"
	"fmt"
	"os/exec"
	"slices"

	"entelon/capture/launch"
	"entelon/runtimes"
	"entelon/symbol"
	"entelon/symbol/libraries"
)

// filesOf are a program's file and the libraries that it needs.
func filesOf(program string) ([]string, error) {
	path, err := exec.LookPath(program)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", program, launch.ErrNoCommand)
	}
	return libraries.NeededFiles(runtimes.InterpreterOf(path)), nil
}

// PairNames are the pairs of static probes of a program and of the libraries that it needs, by name.
func PairNames(program string) (names []string, err error) {
	files, err := filesOf(program)
	for _, path := range files {
		pairs, _, err := Pairs(path)
		if err != nil {
			return nil, err
		}
		for _, p := range pairs {
			names = append(names, p.Name)
		}
	}
	slices.Sort(names)
	return slices.Compact(names), err
}

// FunctionNames are the functions of a program and of the libraries that it needs, by name.
func FunctionNames(program string) (names []string, err error) {
	files, err := filesOf(program)
	if err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	for _, path := range files {
		err := within(path, func(o *symbol.Object) error {
			defined, err := symbol.FunctionsByName(o, "*")
			for _, d := range defined {
				if !seen[d.Name] && !d.Chooses {
					seen[d.Name] = true
					names = append(names, d.Name)
				}
			}
			return err
		})
		if err != nil && !errors.Is(err, errNotCode) {
			return nil, err
		}
	}
	slices.Sort(names)
	return names, nil
}
