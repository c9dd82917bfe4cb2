package main

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"entelon/codec/picture"
	"entelon/codec/report"
	"entelon/codec/stacks"
	"entelon/core/measure"
	"entelon/core/tree"
)

// exportEndings say what a file is by its name.
var exportEndings = map[string]string{".html": "report", ".svg": "picture", ".csv": "table", ".txt": "stacks"}

func exportCommand() *cobra.Command {
	var chosen choice
	var shape tree.Shape
	var out, as, focus string
	var width int
	c := &cobra.Command{
		Use:   "export FILE --out OUT",
		Short: "Write a take as a report, a picture, a table or stacks",
		Long: `Writes what a take shows: as a report (one page of HTML that opens from a file,
with a flame graph that can be dived into), as a picture (SVG), as a table of hot
functions (CSV), or as stacks (one a line). The ending of OUT says which, or --as.`,
		Example: `  entelon export engraved.take --out engraved.html
  entelon export engraved.take --out slurs.svg --scope 'function is slur.Route' --fold foreign
  entelon export engraved.take --out hot.csv
  entelon export engraved.take --out - --as stacks | sort -k2 -n`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if as == "" {
				as = exportEndings[strings.ToLower(filepath.Ext(out))]
			}
			if out == "" || as == "" {
				return fmt.Errorf("--out %s: give a file that ends in .html, .svg, .csv or .txt, or say what it is with --as", out)
			}
			if err := shape.Check(); err != nil {
				return err
			}
			if width < 200 || width > 20_000 {
				return fmt.Errorf("--width %d: give a number of pixels from 200 to 20000", width)
			}
			t, err := readTake(args[0])
			if err != nil {
				return err
			}
			m, sc, err := chosen.of(t)
			if err != nil {
				return err
			}
			tr := tree.Shaped(t.Profile, shape)
			cost := tr.Cost(m, sc)
			write := func(w io.Writer) error {
				switch as {
				case "report":
					return report.Write(w, report.View{Take: t, Tree: tr, Cost: cost, Rows: tr.Functions(cost), Scope: sc.String(), Shape: shape, Focus: focus, Now: time.Now()})
				case "picture":
					words := tr.Profile.Words(m)
					title := fmt.Sprintf("%s of %s build %s", words.Label, t.Settings.Program, t.Settings.Build)
					if !sc.All() {
						title += ", only where " + sc.String()
					}
					l := tr.Layout(cost, tree.LayoutOptions{MinWidth: max(1, cost.Total(0)/int64(width))})
					return picture.Write(w, tr, cost, l, words.Unit, picture.Options{Width: width, Title: title, Hundred: fmt.Sprintf("%s · %d samples", measure.Amount(cost.Total(0), words.Unit), cost.TotalSamples(0)), Focus: focus})
				case "table":
					return report.Table(w, tr.Profile, cost, tr.Functions(cost))
				case "stacks":
					return stacks.WriteTree(w, tr, cost, stacks.Options{Values: chosen.measure != ""})
				}
				return fmt.Errorf("--as %s: choose report, picture, table or stacks", as)
			}
			if out == "-" {
				return write(cmd.OutOrStdout())
			}
			return whole(out, write)
		},
	}
	chosen.add(c)
	c.Flags().StringVarP(&out, "out", "o", "", "the `FILE` to write; - is standard output")
	c.Flags().StringVar(&as, "as", "", "report, picture, table or stacks (default: by the ending of OUT)")
	c.Flags().StringVar(&shape.Fold, "fold", "", "\"runtime\" into its callers, or \"foreign\" code into the calls into it")
	c.Flags().StringVar(&shape.Group, "group", "", "begin with the thread, process or module")
	c.Flags().BoolVar(&shape.Merge, "merge", false, "show recursion as one")
	c.Flags().StringVar(&shape.Through, "through", "", "only what passes through the function `NAME`, from it on")
	c.Flags().StringVar(&focus, "focus", "", "mark the function `NAME`")
	c.Flags().IntVar(&width, "width", 1400, "of a picture, in `PIXELS`")
	_ = c.RegisterFlagCompletionFunc("as", cobra.FixedCompletions([]string{"report", "picture", "table", "stacks"}, cobra.ShellCompDirectiveNoFileComp))
	_ = c.RegisterFlagCompletionFunc("fold", cobra.FixedCompletions([]string{"runtime", "foreign"}, cobra.ShellCompDirectiveNoFileComp))
	_ = c.RegisterFlagCompletionFunc("group", cobra.FixedCompletions([]string{"thread", "process", "module"}, cobra.ShellCompDirectiveNoFileComp))
	return takeFile(c)
}

// whole writes a file that is there whole or not at all.
func whole(path string, write func(io.Writer) error) (err error) {
	f, err := os.CreateTemp(filepath.Dir(path), ".entelon-*")
	if err != nil {
		return fmt.Errorf("--out: %w", err)
	}
	defer func() {
		if err != nil {
			_ = f.Close() // the first error counts
			_ = os.Remove(f.Name())
		}
	}()
	if err := write(f); err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return fmt.Errorf("--out: %w", err)
	}
	if err := os.Chmod(f.Name(), 0o644); err != nil {
		return fmt.Errorf("--out: %w", err)
	}
	return os.Rename(f.Name(), path)
}
