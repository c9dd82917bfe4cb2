package reading

import (
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"entelon/cmd/entelon/option"
	"entelon/cmd/entelon/terminal"
	"entelon/codec/calltext"
	"entelon/core/calltree"
	"entelon/core/profile"
)

// Tree is `entelon tree`.
func Tree() *cobra.Command {
	var chosen option.Choice
	var shape calltree.Shape
	var flame, full, whole bool
	var least float64
	var depth, columns int
	c := &cobra.Command{
		Use:   "tree FILE…",
		Short: "Print a take's call tree, opened to where the cost spreads out, or its flame graph",
		Long: `Prints who calls whom, from the root on, with what that costs. Each node is opened
whose cost is at least --least of all; the rest of its siblings stands together in
one line. A chain of calls in which nothing else happens is shortened. Several
takes of the same measures are added up.

With --flame it is a flame graph of letters, the root at the top: a box is as wide
as its share, and what is empty below it is its own cost.`,
		Example: `  entelon tree engraved.take
  entelon tree engraved.take --through slur.Route --least 0.5
  entelon tree engraved.take --group thread --fold runtime
  entelon tree engraved.take --flame
  entelon tree engraved.take --measure waiting --scope 'not idle'`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			switch {
			case least < 0 || least > 100:
				return fmt.Errorf("--least %v: give a share of all from 0 to 100 %%", least)
			case depth < 0 || columns < 0 || columns > 10_000:
				return errors.New("--depth and --columns are numbers above 0")
			}
			if err := shape.Check(); err != nil {
				return err
			}
			t, err := option.ReadTakes(args)
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
			tr := calltree.Shaped(t.Profile, shape)
			cost := tr.Cost(m, sc)
			w, words := cmd.OutOrStdout(), t.Profile.Words(m)
			fmt.Fprintf(w, "%s %s   100 %% = %s%s\n", t.Settings.Program, t.Settings.Build, wholeOf(cost.Total(0), words), profile.Partial(t.Missing(m)))
			name := func(s string) string { return terminal.Shown(s, full) }
			if flame {
				if columns == 0 {
					columns = terminalColumns()
				}
				return calltext.WriteFlame(w, tr, cost, columns, depth, name)
			}
			return calltext.WriteTree(w, tr, cost, calltext.Options{Least: least / 100, Depth: depth, Whole: whole, Name: name})
		},
	}
	chosen.Add(c)
	c.Flags().Float64Var(&least, "least", 1, "open what costs at least this share of all, in `PERCENT`")
	c.Flags().IntVar(&depth, "depth", 0, "no more than this number of `CALLS` from the root (default all)")
	c.Flags().BoolVar(&whole, "whole", false, "write chains of calls in full")
	c.Flags().BoolVar(&full, "full", false, "print names in full, with packages, parameters and template arguments")
	c.Flags().BoolVar(&flame, "flame", false, "as a flame graph")
	c.Flags().IntVar(&columns, "columns", 0, "of the flame graph (default those of the terminal, or 120)")
	option.ShapeFlags(c, &shape)
	return option.TakeFile(c)
}

// terminalColumns is how wide standard output is.
func terminalColumns() int {
	const usual = 120
	if w, _, err := term.GetSize(int(os.Stdout.Fd())); err == nil && w > 0 {
		return w
	}
	return usual
}
