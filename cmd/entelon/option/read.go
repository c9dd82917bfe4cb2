package option

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"entelon/cmd/entelon/terminal"
	"entelon/codec"
	"entelon/codec/formats"
	"entelon/codec/take"
	"entelon/core/profile"
	"entelon/core/scope"
)

var salvage bool

// TakeFile prepares a command that reads take files.
func TakeFile(c *cobra.Command) *cobra.Command {
	c.Flags().BoolVar(&salvage, "salvage", false, "read the whole blocks of a file that is cut off or damaged")
	c.ValidArgsFunction = func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		return []string{"take"}, cobra.ShellCompDirectiveFilterFileExt
	}
	return c
}

// ReadTakes reads several takes as one, laid over each other: settings, machine and facts
// are those of the first, builds stand beside each other.
func ReadTakes(paths []string) (*profile.Take, error) {
	first, err := ReadTake(paths[0])
	if err != nil || len(paths) == 1 {
		return first, err
	}
	all := []*profile.Profile{first.Profile}
	builds := []string{first.Settings.Build}
	for _, path := range paths[1:] {
		t, err := ReadTake(path)
		if err != nil {
			return nil, err
		}
		all = append(all, t.Profile)
		if !slices.Contains(builds, t.Settings.Build) {
			builds = append(builds, t.Settings.Build)
		}
	}
	merged, err := profile.Merge(all...)
	if err != nil {
		return nil, fmt.Errorf("adding up %d takes: %w", len(paths), err)
	}
	sum := *first
	sum.Profile, sum.Settings.Build = merged, strings.Join(builds, ", ")
	return &sum, nil
}

// ReadTake reads a take and says on standard error what is not as it should be.
func ReadTake(path string) (*profile.Take, error) {
	t, err := formats.ReadFile(path, codec.Options{Salvage: salvage})
	var broken *take.Error
	if salvage && errors.As(err, &broken) {
		return nil, fmt.Errorf("%v, and there is no whole block of samples before that place", err)
	}
	if err != nil {
		return nil, err
	}
	if !t.Whole {
		w := t.Facts.Warnings[len(t.Facts.Warnings)-1]
		fmt.Fprintf(terminal.PlainWriter{To: os.Stderr}, "entelon: %s: %s %s\n", path, w.Text, w.Remedy)
	}
	return t, nil
}

// ReadInScope reads a take and what of it counts.
func ReadInScope(path, scopeText string) (*profile.Take, scope.Scope, error) {
	t, err := ReadTake(path)
	if err != nil {
		return nil, scope.Scope{}, err
	}
	_, sc, err := Choice{Scope: scopeText}.Of(t)
	return t, sc, err
}
