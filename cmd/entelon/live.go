package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"entelon/capture"
	"entelon/capture/pairing"
	"entelon/cmd/entelon/live"
	"entelon/cmd/entelon/measures"
	"entelon/cmd/entelon/terminal"
	"entelon/core/measure"
)

// liveEvery is how long a window is where nothing else is said: on a terminal, and else.
const (
	liveEvery  = seconds(2 * time.Second)
	plainEvery = seconds(10 * time.Second)
)

func liveCommand() *cobra.Command {
	var f takeFlags
	var every seconds
	var chosen []string
	var scopeText, rows string
	var top int
	var asJSON bool
	c := &cobra.Command{
		Use:   "live (--pid PID | --name PATTERN | --machine | --group NAME)",
		Short: "Show what is hot now, again and again, without writing a take",
		Long: `Samples what runs and shows what cost most in the last stretch of time, for as long
as it is left to. On a terminal keys narrow it:

  1 to 9      only what passes through this row; it becomes part of the scope
  0           one step back
  f t p m     rows are functions, threads, processes, modules
  blank       stop the picture; again, go on
  q, Ctrl-C   end

Without a terminal it prints a table each time, or with --json one line of JSON.`,
		Example: `  entelon live --pid 4711
  entelon live --name 'engraved*' --rows thread
  entelon live --machine --every 10s --top 10 > hot.log
  entelon live --pid 4711 --measure waiting --scope 'not idle' --json`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if every == 0 {
				if every = plainEvery; term.IsTerminal(int(os.Stdout.Fd())) {
					every = liveEvery
				}
			}
			switch {
			case time.Duration(every) < 200*time.Millisecond:
				return errors.New("--every: give at least 200ms")
			case top < 1 || top > 1000:
				return fmt.Errorf("--top %d: give a number from 1 to 1000", top)
			}
			f.settings.Measures = chosen
			f.repeat, f.cutShare = 1, 1
			if err := f.check(nil); err != nil {
				return err
			}
			view := &live.View{Rows: rows, Top: top, JSON: asJSON}
			if err := view.Check(scopeText); err != nil {
				return err
			}
			return runLive(cmd.Context(), f, view, time.Duration(every))
		},
	}
	c.Flags().IntSliceVar(&f.settings.PIDs, "pid", nil, "sample the running process `PID`; may be repeated")
	c.Flags().StringVar(&f.name, "name", "", "sample all running processes whose name is like this `PATTERN`")
	c.Flags().StringVar(&f.settings.Children, "children", "", `"yes" or "no": sample children that run already, too (default: where the process leaves the work to them)`)
	c.Flags().BoolVar(&f.settings.Machine, "machine", false, "sample everything that runs on this machine")
	c.Flags().StringVar(&f.settings.Group, "group", "", "sample everything in the control group `NAME`, as below /sys/fs/cgroup")
	c.Flags().StringArrayVarP(&chosen, "measure", "m", []string{measure.CPU}, "add up this `MEASURE`; the first of several is shown")
	c.Flags().IntVar(&f.settings.RateHz, "rate", 99, "samples for each second of processor time, in `HZ`")
	c.Flags().Var(&every, "every", "how long a stretch of `TIME` is (default 2s on a terminal, else 10s)")
	c.Flags().Var(&f.during, "for", "end after this `TIME`")
	c.Flags().IntVar(&top, "top", 20, "how many rows")
	c.Flags().StringVar(&rows, "rows", "function", "what the rows are: function, thread, process or module")
	c.Flags().StringVar(&scopeText, "scope", "", "only the samples that this `EXPRESSION` holds")
	c.Flags().BoolVar(&asJSON, "json", false, "print one line of JSON for each stretch of time")
	f.symbols.Add(c)
	_ = c.RegisterFlagCompletionFunc("measure", measures.CompleteMeasures)
	_ = c.RegisterFlagCompletionFunc("group", measures.CompleteGroups)
	_ = c.RegisterFlagCompletionFunc("pid", measures.CompleteProcesses)
	_ = c.RegisterFlagCompletionFunc("rows", cobra.FixedCompletions(live.RowKinds, cobra.ShellCompDirectiveNoFileComp))
	return c
}

// runLive samples, and shows each window.
func runLive(ctx context.Context, f takeFlags, view *live.View, every time.Duration) error {
	say := func(text string) { fmt.Fprintln(os.Stderr, "entelon: "+text) }
	if err := f.attach(say); err != nil {
		return err
	}
	finder, err := f.symbols.Finder()
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	sig := watchSignals(cancel, true)
	defer sig.stop()
	show, done := view.Plain(terminal.PlainWriter{To: os.Stdout}), func() error { return nil }
	if term.IsTerminal(int(os.Stdout.Fd())) && term.IsTerminal(int(os.Stdin.Fd())) && !view.JSON {
		if show, done, err = view.Screen(cancel); err != nil {
			return err
		}
	}
	o := capture.Options{
		Settings: f.settings, Finder: finder, Every: every,
		Window: func(w pairing.Window) error {
			if w.End-w.Begin < every.Nanoseconds()/2 {
				return nil // what was left at the end is too short to be compared with the others
			}
			return show(live.Window{Begin: w.Begin, End: w.End, Profile: w.Profile, Facts: w.Facts, Settings: f.settings})
		},
	}
	r, err := capture.Collect(ctx, o, capture.NoSink{})
	err = errors.Join(err, done())
	if err != nil {
		return err
	}
	if r.SinkErr != nil {
		return r.SinkErr
	}
	for _, w := range r.Take.Facts.Warnings {
		if w.Code == "fault" || w.Code == "no-kernel" {
			say(w.Text + " " + w.Remedy)
		}
	}
	return nil
}
