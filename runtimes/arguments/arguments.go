// Package arguments reads the command line of a runtime as that does, to find what it
// will run.
//
// It holds nothing.
package arguments

import (
	"slices"
	"strings"
)

// First returns the first argument that is not an option. withValue are the options
// whose value is the next argument. option is asked of each option, with what follows
// it; where it says so, nothing is looked for any more and ok is unset.
func First(args, withValue []string, option func(name string, rest []string) (end bool)) (first string, ok bool) {
	for ; len(args) > 0; args = args[1:] {
		a := args[0]
		switch {
		case a == "-":
			return "", false
		case !strings.HasPrefix(a, "-"):
			return a, true
		case option(a, args[1:]):
			return "", false
		case slices.Contains(withValue, a) && len(args) > 1:
			args = args[1:]
		}
	}
	return "", false
}
