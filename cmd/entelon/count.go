package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"entelon/capture"
	"entelon/cmd/entelon/measures"
	"entelon/cmd/entelon/option"
	"entelon/cmd/entelon/terminal"
	"entelon/core/profile"
)

type countJSON struct {
	Functions  []countOut        `json:"functions"`
	Slowdown   float64           `json:"slowdown"` // as a share of the program's processor time
	Calls      int64             `json:"calls"`
	DurationNS int64             `json:"duration_ns"`
	CPUNS      int64             `json:"cpu_ns"`
	HitNS      float64           `json:"cost_of_a_count_ns"`
	Warnings   []profile.Warning `json:"warnings"`
}

type countOut struct {
	Name    string      `json:"name"`
	Calls   int64       `json:"calls"`
	Callers []callerOut `json:"callers"`
}

type callerOut struct {
	Name  string `json:"name"`
	Calls int64  `json:"calls"`
}

func countCommand() *cobra.Command {
	var o capture.CountOptions
	var during seconds
	var asJSON, full bool
	var symbols option.Symbols
	set := &o.Settings
	c := &cobra.Command{
		Use:   "count --function NAME… (--pid PID | -- COMMAND ARGS…)",
		Short: "Count the calls of functions exactly, with who called them",
		Long: `Counts every call of the functions that are named, with the functions that called
them, in a command that it launches or in processes that run, threads and child
processes included. Samples tell where the time goes; counts tell whether a
function is slow or is called too often.

A name is a function's name for reading, with or without its parameters or its
package's path, or the linker's name; * stands for anything. Each call costs the
program some microseconds, so that a function that is called very often makes it
much slower; what it cost is measured and said. Counting needs the rights of root.`,
		Example: `  entelon count --function 'slur.(*Skyline).Height' -- ./engraved --scores 20
  entelon count --function malloc --function 'ink::Canvas::*' -- ./inkraster score.pages
  entelon count --function beam.Group --pid 4711 --for 5s
  entelon count --function slur.Route --pid 4711 --calls 100000 --json`,
		RunE: func(cmd *cobra.Command, args []string) error {
			set.Command, set.ForNS = args, int64(during)
			switch {
			case len(o.Functions) == 0:
				return errors.New("nothing to count; name a function with --function NAME")
			case len(args) == 0 && len(set.PIDs) == 0:
				return errors.New("nothing to count in; give a command after --, or --pid PID")
			case len(args) > 0 && len(set.PIDs) > 0:
				return errors.New("give either a command or --pid, not both")
			case o.Calls < 0:
				return fmt.Errorf("--calls %d: give a number of calls, or 0 for no bound", o.Calls)
			case len(args) == 0 && (set.Dir != "" || len(set.Env) > 0):
				return errors.New("--dir and --env are for a launched command; a running process has its own")
			}
			for _, pid := range set.PIDs {
				if pid <= 0 {
					return fmt.Errorf("%d is not a process ID", pid)
				}
			}
			finder, err := symbols.Finder()
			if err != nil {
				return err
			}
			o.Finder, o.Stdin, o.Stdout, o.Stderr = finder, os.Stdin, os.Stdout, os.Stderr
			if asJSON {
				o.Stdout = os.Stderr // standard output is for the result alone
			}
			return runCount(cmd, o, asJSON, full)
		},
	}
	c.Flags().SetInterspersed(false)
	c.Flags().StringArrayVarP(&o.Functions, "function", "f", nil, "count calls of the function `NAME`; may be repeated")
	c.Flags().IntSliceVar(&set.PIDs, "pid", nil, "count in the running process `PID`; may be repeated")
	c.Flags().Var(&during, "for", "stop counting after this time, such as 10s or 2m")
	c.Flags().Int64Var(&o.Calls, "calls", 0, "stop counting after this `NUMBER` of calls, all functions together")
	c.Flags().StringVar(&set.Dir, "dir", "", "run the command in this `DIR`")
	c.Flags().StringArrayVar(&set.Env, "env", nil, "set `K=V` in the command's environment; may be repeated")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON; what the command prints goes to standard error")
	c.Flags().BoolVar(&full, "full", false, "print names in full, with packages, parameters and template arguments")
	symbols.Add(c)
	_ = c.RegisterFlagCompletionFunc("pid", measures.CompleteProcesses)
	_ = c.MarkFlagDirname("dir")
	return c
}

func runCount(cmd *cobra.Command, o capture.CountOptions, asJSON, full bool) error {
	ctx, cancel := context.WithCancel(cmd.Context())
	defer cancel()
	sig := watchSignals(cancel, len(o.Settings.Command) == 0)
	defer sig.stop()
	res, err := capture.Count(ctx, o)
	if err != nil {
		return err
	}
	sig.to(res.Signal)
	if asJSON {
		err = terminal.PrintJSON(cmd.OutOrStdout(), countResult(res))
	} else {
		err = printCounts(cmd.OutOrStdout(), res, full)
	}
	if err != nil {
		return err
	}
	if code := await(&capture.Result{Wait: res.Wait}); code != 0 {
		return option.ExitCode(code)
	}
	return nil
}

func countResult(res *capture.Counts) countJSON {
	out := countJSON{Functions: []countOut{}, Slowdown: res.Slowdown, Calls: res.Calls, DurationNS: res.DurationNS, CPUNS: res.CPUNS, HitNS: res.HitNS,
		Warnings: append([]profile.Warning{}, res.Warnings...)}
	for _, f := range res.Functions {
		x := countOut{f.Name, f.Calls, []callerOut{}}
		for _, c := range f.Callers {
			x.Callers = append(x.Callers, callerOut(c))
		}
		out.Functions = append(out.Functions, x)
	}
	return out
}

func printCounts(w io.Writer, res *capture.Counts, full bool) error {
	why := ""
	if res.Bounded {
		why = ", which was the bound"
	}
	fmt.Fprintf(w, "%s calls in %.2f s%s; counting cost %.1f µs a call, %.1f %% of the program's processor time\n",
		terminal.Thin(res.Calls), time.Duration(res.DurationNS).Seconds(), why, res.HitNS/1000, 100*res.Slowdown)
	tw := tabwriter.NewWriter(w, 0, 0, 2, ' ', tabwriter.AlignRight)
	for _, f := range res.Functions {
		fmt.Fprintf(tw, "%s\t\t  %s\n", terminal.Thin(f.Calls), terminal.Shown(f.Name, full))
		for _, c := range f.Callers {
			name := c.Name
			if !full {
				name = profile.Short(name)
			}
			fmt.Fprintf(tw, "%s\t%.1f %%\t    called by %s\n", terminal.Thin(c.Calls), 100*terminal.Share(c.Calls, f.Calls), name)
		}
	}
	if err := tw.Flush(); err != nil {
		return err
	}
	for _, x := range res.Warnings {
		fmt.Fprintf(w, "! %s %s\n", x.Text, x.Remedy)
	}
	return nil
}
