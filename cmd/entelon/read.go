package main

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"entelon/codec"
	"entelon/codec/formats"
	"entelon/core/profile"
)

var salvage bool

// takeFile prepares a command that reads take files.
func takeFile(c *cobra.Command) *cobra.Command {
	c.Flags().BoolVar(&salvage, "salvage", false, "read the whole blocks of a file that is cut off or damaged")
	c.ValidArgsFunction = func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		return []string{"take"}, cobra.ShellCompDirectiveFilterFileExt
	}
	return c
}

// readTake reads a take and says on standard error what is not as it should be.
func readTake(path string) (*profile.Take, error) {
	t, err := formats.ReadFile(path, codec.Options{Salvage: salvage})
	if err != nil {
		return nil, err
	}
	if !t.Whole {
		w := t.Facts.Warnings[len(t.Facts.Warnings)-1]
		fmt.Fprintf(plainWriter{os.Stderr}, "entelon: %s: %s %s\n", path, w.Text, w.Remedy)
	}
	return t, nil
}

func printJSON(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

// thin writes a number with thin spaces between groups of three digits.
func thin(n int64) string {
	s := fmt.Sprint(n)
	neg := strings.HasPrefix(s, "-")
	s = strings.TrimPrefix(s, "-")
	var b strings.Builder
	for i, r := range s {
		if i > 0 && (len(s)-i)%3 == 0 {
			b.WriteRune('\u202f')
		}
		b.WriteRune(r)
	}
	if neg {
		return "−" + b.String()
	}
	return b.String()
}
