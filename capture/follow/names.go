package follow

import (
	"errors"
	"fmt"
	"os/exec"
	"sort"

	"entelon/capture/launch"
	"entelon/core/profile"
	"entelon/runtimes"
	"entelon/symbol"
	"entelon/symbol/elfimage"
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
		f, err := elfimage.OpenRegular(path)
		if err != nil {
			continue // one that is not here
		}
		o, err := symbol.OpenObject(f, path, profile.KindOwn, nil)
		if err != nil {
			continue // not a file of code
		}
		defined, err := symbol.FunctionsByName(o, "*")
		if err = errors.Join(err, o.Close()); err != nil {
			return nil, err
		}
		for _, d := range defined {
			if !seen[d.Name] && !d.Chooses {
				seen[d.Name] = true
				names = append(names, d.Name)
			}
		}
	}
	sort.Strings(names)
	return names, nil
}
