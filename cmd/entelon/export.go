package main

import (
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"entelon/cmd/entelon/option"
	"entelon/codec"
	"entelon/codec/formats"
	"entelon/core/calltree"
)

func exportCommand() *cobra.Command {
	var chosen option.Choice
	var shape calltree.Shape
	var out, as, focus string
	var width int
	c := &cobra.Command{
		Use:   "export FILE --out OUT",
		Short: "Write a take as a report, a picture, a table, stacks, data or a take",
		Long: `Writes what a take shows: as a report (one page of HTML that opens from a file,
with a flame graph that can be dived into), as a picture (SVG), as a table of hot
functions (CSV), as data for programs (JSON), or as stacks (one a line). A file of such stacks, which other
programs write, too, can be read like a take; written as a take, it can be sent.
The ending of OUT says which, or --as.`,
		Example: `  entelon export engraved.take --out engraved.html
  entelon export engraved.take --out slurs.svg --scope 'function is slur.Route' --fold foreign
  entelon export engraved.take --out hot.csv
  entelon export engraved.take --out engraved.json --scope 'thread is worker-*'
  entelon export engraved.take --out - --as stacks | sort -k2 -n
  entelon export partbook.txt --out partbook.take`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			format, err := formats.ForFile(out)
			if as != "" {
				if format, err = formats.Named(as); err != nil {
					return fmt.Errorf("--as %w", err)
				}
			}
			if out == "" || err != nil {
				return fmt.Errorf("--out %s: give a file that ends in %s, or say what it is with --as", out, formats.Endings())
			}
			if err := shape.Check(); err != nil {
				return err
			}
			if width < 200 || width > 20_000 {
				return fmt.Errorf("--width %d: give a number of pixels from 200 to 20000", width)
			}
			if format.Whole {
				for _, name := range []string{"scope", "measure", "fold", "group", "merge", "through", "focus", "width"} {
					if cmd.Flags().Changed(name) {
						return fmt.Errorf("--%s: a %s is always written whole; leave this flag out", name, format.Name)
					}
				}
			}
			t, err := option.ReadTake(args[0])
			if err != nil {
				return err
			}
			m, sc, err := chosen.Of(t)
			if err != nil {
				return err
			}
			if shape.Through, err = option.FunctionName("--through", shape.Through, args[0], t.Profile); err != nil {
				return err
			}
			if focus, err = option.FunctionName("--focus", focus, args[0], t.Profile); err != nil {
				return err
			}
			tr := calltree.Shaped(t.Profile, shape)
			cost := tr.Cost(m, sc)
			view := codec.View{
				Take: t, Tree: tr, Cost: cost, Rows: func() []calltree.FunctionCost { return calltree.Functions(tr, cost) },
				Scope: sc, Shape: shape, Focus: focus, Now: time.Now(), Width: width, Values: chosen.Measure != "",
			}
			write := func(w io.Writer) error { return format.Encode(w, view) }
			if out == "-" {
				return write(cmd.OutOrStdout())
			}
			return option.WriteFile("--out", out, args, cmd.ErrOrStderr(), write)
		},
	}
	chosen.Add(c)
	c.Flags().StringVarP(&out, "out", "o", "", "the `FILE` to write; - is standard output")
	c.Flags().StringVar(&as, "as", "", formats.Names()+" (default: by the ending of OUT)")
	option.ShapeFlags(c, &shape)
	c.Flags().StringVar(&focus, "focus", "", "mark the function `NAME`")
	c.Flags().IntVar(&width, "width", 1400, "of a picture, in `PIXELS`")
	_ = c.RegisterFlagCompletionFunc("as", formatCompletions)
	return option.TakeFile(c)
}

// formatCompletions are the formats with what they are.
func formatCompletions(*cobra.Command, []string, string) (out []string, _ cobra.ShellCompDirective) {
	for _, e := range formats.Encoders {
		out = append(out, e.Name+"\t"+e.Means)
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}
