// Package measures is the command that lists what can be measured, with the help and the
// completion of what -m accepts. It has no state.
package measures

import (
	"fmt"
	"io"
	"path"
	"strings"

	"github.com/spf13/cobra"

	"entelon/capture"
	"entelon/cmd/entelon/terminal"
)

// Command is `entelon measures`.
func Command() *cobra.Command {
	var asJSON bool
	var of []string
	c := &cobra.Command{
		Use:   "measures [PATTERN]",
		Short: "List what can be measured on this machine, with what it means and costs",
		Long: `Lists what --measure takes: what Entelon measures by itself, the tracepoints of this
machine's kernel, and with --of the functions and the pairs of static probes of a program and
of the libraries that it needs. PATTERN keeps those whose name is like it; * is any text.

What Entelon measures by itself:

` + Help(),
		Example: `  entelon measures
  entelon measures 'tracepoint:sched:*'
  entelon measures '*fork*'
  entelon measures 'function:slur.*' --of ./engraved
  entelon measures 'probe:*' --of python3
  entelon measures --json`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			pattern := "*"
			if len(args) > 0 {
				pattern = args[0]
			}
			if _, err := path.Match(pattern, ""); err != nil {
				return fmt.Errorf("%q is not a pattern: write a name, in which * stands for anything", pattern)
			}
			list, err := capture.Measurables(pattern, of)
			if err != nil {
				return err
			}
			if len(list) == 0 {
				return fmt.Errorf("nothing that can be measured is called %s; entelon measures lists all", pattern)
			}
			if asJSON {
				return terminal.PrintJSON(cmd.OutOrStdout(), list)
			}
			return printMeasures(cmd.OutOrStdout(), list)
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	c.Flags().StringArrayVar(&of, "of", nil, "list the functions of this `PROGRAM`, too; may be repeated")
	c.ValidArgsFunction = func(_ *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
		return CompleteMeasures(nil, nil, begun)
	}
	return c
}

func printMeasures(w io.Writer, list []capture.Measurable) error {
	for _, m := range list {
		name := terminal.Plain(m.Name, "")
		// Of what there are thousands, a line each is enough.
		if strings.HasPrefix(m.Name, "tracepoint:") && !strings.Contains(m.Name, "GROUP") || strings.HasPrefix(m.Name, "function:") && !strings.Contains(m.Name, "NAME") || strings.HasPrefix(m.Name, "probe:") && !strings.Contains(m.Name, "PROVIDER") {
			if _, err := fmt.Fprintln(w, name); err != nil {
				return err
			}
			continue
		}
		fmt.Fprintf(w, "%s (%s)\n", name, m.Unit)
		for _, line := range wrapped(m.Means+" Costs "+m.Cost+".", 76) {
			fmt.Fprintf(w, "    %s\n", line)
		}
		if m.Not != "" {
			for _, line := range wrapped("Not here: "+m.Not+".", 76) {
				fmt.Fprintf(w, "    %s\n", line)
			}
		}
	}
	return nil
}

// ScopeTopic explains the language of scopes: it is help without a command.
func ScopeTopic() *cobra.Command {
	return &cobra.Command{
		Use:   "scope",
		Short: "How to say which samples count",
		Long: `A scope says which samples count, in one expression that can be read aloud:

    thread is worker-* and function is slur.Route and not idle

Conditions, joined by and, or and not, in brackets where needed:

    thread is worker-*            of threads of this name or number
    process is engraved           of processes of this name or number
    function is slur.Route        whose stack has this function
    top is skyline.At             whose stack ends in it
    path is main > slur.Route     whose stack has these functions in this order
    module is libc.so.6           whose innermost function is in this file or package
    code is own                   own, library, runtime, kernel, unknown or mark
    state is lock                 whose thread was running, ready, or waited for a lock,
                                  disk, network, timer, events, input, process, memory
    time from 3.2 s to 5.9 s      of this part of the take
    waiting over 5 ms             whose value of a measure is so large; under, at least, at most
    idle                          that wait for something to do
    label page is 4               to which the program gave this label
    span is draw                  of a part of the work that the program named
    program is engraved, build is 3.5.0

After is stands a list, of which any may hold: thread is worker-1, worker-2. In a
name * is any text and ? any letter; matches "^slur\." takes a regular expression.
A name with blanks, commas or brackets stands in double quotes.

It serves --scope of hot, tree, stacks, export and compare, take --keep, and the
scope line of the page.`,
	}
}
