package follow

import (
	"errors"
	"fmt"
	"os/exec"
	"sort"

	"entelon/capture/launch"
	"entelon/runtimes"
	"entelon/symbol"
	"entelon/symbol/libraries"
)

// FunctionNames are the functions of a program and of the libraries that it needs, by name.
func FunctionNames(program string) (names []string, err error) {
	path, err := exec.LookPath(program)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", program, launch.ErrNoCommand)
	}
	seen := map[string]bool{}
	for _, path := range libraries.NeededFiles(runtimes.InterpreterOf(path)) {
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
	sort.Strings(names)
	return names, nil
}
