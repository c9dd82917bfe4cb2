package option

import (
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"entelon/cmd/entelon/terminal"
	"entelon/codec"
	"entelon/codec/formats"
	"entelon/codec/take"
	"entelon/core/profile"
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
