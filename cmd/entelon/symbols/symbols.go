// Package symbols are the commands that find names for what has none, in a take or on this machine.
// It has no state.
package symbols

import (
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"unicode"

	"github.com/spf13/cobra"

	"entelon/cmd/entelon/option"
	"entelon/cmd/entelon/terminal"
	"entelon/core/profile"
	"entelon/diagnose"
	"entelon/resolve/rename"
	"entelon/symbol"
)

// fewCost is the share of a take's cost from which on the names of a file are got.
const fewCost = 0.005

// FileOut is a file of a take with where its names come from.
type FileOut struct {
	Path    string  `json:"path"`
	BuildID string  `json:"build_id"`
	Share   float64 `json:"share"`         // of the cost, of stacks that pass through it
	Unnamed float64 `json:"share_unnamed"` // of the cost, that ends in functions of it without a name
	Names   string  `json:"names"`         // the file with its names; "" where there is none here
}

// Command is `entelon symbols`.
func Command() *cobra.Command {
	var from option.Symbols
	var asJSON, full bool
	c := &cobra.Command{
		Use:   "symbols TAKE",
		Short: "Show which files of a take lack function names, and fetch them",
		Long: `Lists the files whose code is on a take's stacks: their share of its cost, the share
that ends in functions without a name, and where this machine has their names: in
the file itself or in a separate debug file.

With get, missing debug files are fetched for exactly these builds, and their names
are added to the take, however old it is.`,
		Example: `  entelon symbols inkraster.take
  entelon symbols get inkraster.take
  entelon symbols get --debug-server http://debug.shop.example:8002 inkraster.take`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			t, err := option.ReadTake(args[0])
			if err != nil {
				return err
			}
			finder, err := from.Finder()
			if err != nil {
				return err
			}
			finder.Servers = nil // looking fetches nothing
			files, total := rename.Files(t.Profile)
			out := []FileOut{}
			lacking := false
			for _, f := range files {
				x := FileOut{Path: f.Path, BuildID: f.BuildID, Share: share(f.Cost, total), Unnamed: share(f.Unnamed, total)}
				if x.Names, err = namesOf(finder, f); err != nil {
					return err
				}
				lacking = lacking || x.Names == "" && x.Share >= fewCost || x.Names != "" && x.Unnamed > 0
				out = append(out, x)
			}
			if asJSON {
				return terminal.PrintJSON(cmd.OutOrStdout(), out)
			}
			if err := printFiles(cmd.OutOrStdout(), out, full); err != nil || !lacking {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "\nFetch what is missing and add it to the take: entelon symbols get %s\n", quoted(args[0]))
			return err
		},
	}
	from.Add(c)
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	c.Flags().BoolVar(&full, "full", false, "print paths and builds in full length")
	c.AddCommand(symbolsGetCommand())
	return option.TakeFile(c)
}

// RemedyFor is a warning's remedy as a command on the take at a path.
func RemedyFor(w profile.Warning, path string) string {
	return strings.ReplaceAll(w.Remedy, diagnose.GetNames, strings.Replace(diagnose.GetNames, "TAKE", quoted(path), 1))
}

// quoted is a path as a shell takes it.
func quoted(path string) string {
	if path != "" && !strings.ContainsFunc(path, func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsDigit(r) && !strings.ContainsRune("/._-+,:@%", r)
	}) {
		return path
	}
	return "'" + strings.ReplaceAll(path, "'", `'\''`) + "'"
}

func share(part, of int64) float64 {
	if of == 0 {
		return 0
	}
	return float64(part) / float64(of)
}

// namesOf returns which file here has the names of a file of a take, "" where none has.
func namesOf(finder *symbol.Finder, f rename.File) (path string, err error) {
	o, err := finder.OpenBuild(f.Path, f.BuildID, f.Kind)
	if o == nil || err != nil {
		return "", err
	}
	if path = o.DebugFile; path == "" {
		path = o.Path
	}
	return path, o.Close()
}

func printFiles(w io.Writer, files []FileOut, full bool) error {
	if len(files) == 0 {
		_, err := fmt.Fprintln(w, "The take has no files with a build ID on its stacks.")
		return err
	}
	tw := tabwriter.NewWriter(terminal.PlainWriter{To: w}, 0, 0, 2, ' ', 0)
	fmt.Fprintln(tw, "cost\twithout names\tfile\tbuild\tnames from")
	for _, f := range files {
		build, from := f.BuildID, f.Names
		if !full {
			build = build[:min(12, len(build))]
		}
		switch from {
		case "":
			from = "not found here"
		case f.Path:
			from = "the file itself"
		}
		fmt.Fprintf(tw, "%.1f %%\t%.1f %%\t%s\t%s\t%s\n", 100*f.Share, 100*f.Unnamed, f.Path, build, from)
	}
	return tw.Flush()
}
