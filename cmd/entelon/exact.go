package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"entelon/cmd/entelon/option"
	"entelon/cmd/entelon/reading"
	"entelon/cmd/entelon/symbols"
	"entelon/cmd/entelon/terminal"
	"entelon/codec/takefile"
	"entelon/core/profile"
	"entelon/exact"
	"entelon/exact/session"
)

type exactFlags struct {
	out, program, build, dir, note, workload string
	env                                      []string
	once                                     bool
	inside                                   string
	memory, models                           bool
	caches                                   []string
	after, units                             int64
	symbols                                  option.Symbols
}

func exactCommand() *cobra.Command {
	var f exactFlags
	c := &cobra.Command{
		Use:   "exact [flags] -- COMMAND ARGS…",
		Short: "Run a command in an emulator and count every instruction and call",
		Long: `Runs a command in an emulator that counts every instruction and every call, by
function, line and chain of callers. The numbers are the same each time where the
program is, on a busy machine too, so that one run shows a change of a thousandth.
They are no times: a program can execute less and wait longer for memory.

It is run twice, and functions whose counts differ between the two are named:
what is random, looks at clocks or waits for others differs by itself. Each run
takes several times as long as the program alone, and 50 times or more for
floating-point work and compilers. The take has the measures instructions and
calls, and is read, compared and sent like any other.`,
		Example: `  entelon exact -- ./inkraster score.pages
  entelon exact --once --out after.take -- ./engraved --scores 3
  entelon exact --inside 'ink::Page::fill' --after 10 --for-units 100 -- ./inkraster 15
  entelon exact --models --caches 32K/8/64,1M/16/64 -- ./inkraster 15
  entelon hot after.take --measure calls
  entelon compare before.take after.take`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error { return f.run(cmd.Context(), args) },
	}
	fs := c.Flags()
	fs.StringVarP(&f.out, "out", "o", "", "write the take to this `FILE` (default PROGRAM-BUILD-TIME.take)")
	fs.BoolVar(&f.once, "once", false, "run it once, without learning what varies by itself")
	fs.BoolVar(&f.memory, "memory", false, "count loads and stores with their bytes, too")
	fs.BoolVar(&f.models, "models", false, "model two levels of caches and the prediction of branches, too: misses by function and line")
	fs.StringSliceVar(&f.caches, "caches", nil, "the two caches of --models, each as `SIZE/WAYS/LINE` (default: this machine's)")
	fs.StringVar(&f.inside, "inside", "", "count only what calls of this `FUNCTION` do, with all that they call, so that starting up does not count")
	fs.Int64Var(&f.after, "after", 0, "of --inside, skip this many calls first")
	fs.Int64Var(&f.units, "for-units", 0, "of --inside, count this many calls and no more: each is a unit of work (default: all that follow)")
	fs.StringVar(&f.program, "program", "", "name of the program (default: from the file)")
	fs.StringVar(&f.build, "build", "", "name of the build (default: from the file)")
	fs.StringVar(&f.dir, "dir", "", "run the command in this directory")
	fs.StringArrayVar(&f.env, "env", nil, "set a variable for the command, as `NAME=VALUE`; may be repeated")
	fs.StringVar(&f.workload, "workload", "", "name what the command does, to be compared with takes of the same `NAME` only")
	fs.StringVar(&f.note, "note", "", "keep a note with the take")
	f.symbols.Add(c)
	return c
}

func (f *exactFlags) run(ctx context.Context, command []string) error {
	say := func(text string) { fmt.Fprintln(os.Stderr, "entelon: "+text) }
	for _, kv := range f.env {
		if name, _, ok := strings.Cut(kv, "="); !ok || name == "" {
			return fmt.Errorf("--env %s: write it as NAME=VALUE", kv)
		}
	}
	finder, err := f.symbols.Finder()
	if err != nil {
		return err
	}
	set := profile.Settings{Command: command, Dir: f.dir, Env: f.env, Program: f.program, Build: f.build, Note: f.note, Workload: f.workload, Once: f.once, Inside: f.inside, After: f.after, Calls: f.units, Memory: f.memory}
	if f.models || len(f.caches) > 0 {
		if set.Caches = f.caches; len(set.Caches) == 0 {
			set.Caches = exact.OwnCaches()
		}
	}
	sink := &takefile.File{Path: f.out}
	if err := sink.Prepare(); err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	sig := watchSignals(cancel, false)
	defer sig.stop()
	input, err := sameInput(os.Stdin, f.once)
	if err != nil {
		return err
	}
	defer input.close()
	r, err := session.Make(ctx, session.Options{
		Settings: set, Input: input, Stdout: os.Stdout, Stderr: os.Stderr, Finder: finder, Started: sig.to,
		Again: func() { say("running it again, to see what varies from run to run") },
	}, sink)
	if r == nil {
		return errors.Join(err, sink.Discard())
	}
	if err := sink.Close(err); err != nil {
		return err
	}
	if sink.Aside != "" {
		say(fmt.Sprintf("%s already existed; it is now %s", sink.Path, sink.Aside))
	}
	exactSummary(say, &r.Facts, r.Profile)
	for _, x := range r.Facts.Warnings {
		say("! " + x.Text + " " + symbols.RemedyFor(x, sink.Path))
	}
	say("wrote " + sink.Path)
	if f.symbols.Note != "" {
		say(f.symbols.Note)
	}
	if r.Code != 0 {
		return option.ExitCode(r.Code)
	}
	return nil
}

// exactSummary says what came of it.
func exactSummary(say func(string), f *profile.Facts, p *profile.Profile) {
	x := f.Exact
	say(fmt.Sprintf("%s instructions and %s calls in %s", terminal.Thin(p.Total(0)), terminal.Thin(p.Total(1)), reading.Several(x.Processes, "process", "processes")))
	if x.Runs < 2 {
		return
	}
	if x.Varying == 0 {
		say("the second run was identical, to the last instruction")
		return
	}
	most := x.Varied[0]
	say(fmt.Sprintf("%d functions differ between the two runs, %s most: %s to %s instructions of its own; in all %s and %s", x.Varying, most.Function, terminal.Thin(most.Instructions[0]), terminal.Thin(most.Instructions[1]), terminal.Thin(x.Totals[0]), terminal.Thin(x.Totals[1])))
}
