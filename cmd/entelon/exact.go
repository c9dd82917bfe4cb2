package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"entelon/capture"
	"entelon/cmd/entelon/option"
	"entelon/cmd/entelon/terminal"
	"entelon/codec/takefile"
	"entelon/core/profile"
	"entelon/exact"
	"entelon/exact/counts"
)

type exactFlags struct {
	out, program, build, dir, note, workload string
	env                                      []string
	once                                     bool
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
what is random, looks at clocks or waits for others differs by itself. It takes
some times as long as the program alone, twice. The take has the measures
instructions and calls, and is read, compared and sent like any other.`,
		Example: `  entelon exact -- ./inkraster score.pages
  entelon exact --once --out after.take -- ./engraved --scores 3
  entelon hot after.take --measure calls
  entelon compare before.take after.take`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error { return f.run(cmd.Context(), args) },
	}
	fs := c.Flags()
	fs.StringVarP(&f.out, "out", "o", "", "write the take to this `FILE` (default PROGRAM-BUILD-TIME.take)")
	fs.BoolVar(&f.once, "once", false, "run it once, without learning what varies by itself")
	fs.StringVar(&f.program, "program", "", "name of the program (default: from the file)")
	fs.StringVar(&f.build, "build", "", "name of the build (default: from the file)")
	fs.StringVar(&f.dir, "dir", "", "run the command in this directory")
	fs.StringArrayVar(&f.env, "env", nil, "set a variable for the command, as `NAME=VALUE`; may be repeated")
	fs.StringVar(&f.workload, "workload", "", "name what the command does, to be compared with takes of the same `NAME` only")
	fs.StringVar(&f.note, "note", "", "keep a note with the take")
	f.symbols.Add(c)
	return c
}

// folded is a run with its profile.
type foldedRun struct {
	*exact.Run
	profile *profile.Profile
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
	set := profile.Settings{Command: command, Dir: f.dir, Env: f.env, Program: f.program, Build: f.build, Note: f.note, Workload: f.workload, Measures: []string{}}
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
	began := time.Now()
	objects := exact.NewObjects(finder)
	defer objects.Close()
	first, err := f.one(command, objects, input, os.Stdout, sig)
	if err != nil {
		return err
	}
	runs := []*foldedRun{first}
	if !f.once && ctx.Err() == nil {
		say("once more, to learn what varies by itself")
		again, err := f.one(command, objects, input, io.Discard, sig)
		if err != nil {
			return err
		}
		if ctx.Err() == nil { // one that was stopped says nothing of what varies
			runs = append(runs, again)
		}
	}
	machine := capture.Machine()
	machine.StartedAt = began
	facts := exactFacts(runs)
	if objects.Go {
		facts.Warn("exact-goroutines", "Chains of callers may begin in the middle, or stand under another goroutine; what functions cost themselves, and their calls by their direct callers, is right in any case.", "GOMAXPROCS=1 and GODEBUG=asyncpreemptoff=1, with --env, make a Go program steadier.")
	}
	if ctx.Err() != nil && len(runs) == 1 {
		facts.EndedBy = "user"
	}
	exact.Identify(&set, &facts, objects.Main, capture.ProgramName)
	if err := sink.Begin(set, machine); err != nil {
		return errors.Join(err, sink.Discard())
	}
	err = errors.Join(sink.Append(first.profile), sink.Facts(facts))
	if err := sink.Close(err); err != nil {
		return err
	}
	if sink.Aside != "" {
		say(fmt.Sprintf("%s already existed; it is now %s", sink.Path, sink.Aside))
	}
	exactSummary(say, &facts, first.profile)
	say("wrote " + sink.Path)
	if f.symbols.Note != "" {
		say(f.symbols.Note)
	}
	if first.Code != 0 {
		return option.ExitCode(first.Code)
	}
	return nil
}

// one makes one run.
func (f *exactFlags) one(command []string, objects *exact.Objects, input *repeatedInput, out io.Writer, sig *signals) (*foldedRun, error) {
	in, err := input.next()
	if err != nil {
		return nil, err
	}
	r, err := exact.Once(exact.Options{Command: command, Dir: f.dir, Env: f.env, Stdin: in, Stdout: out, Stderr: os.Stderr, Started: sig.to})
	input.ended()
	if err != nil {
		return nil, err
	}
	b := profile.NewBuilder()
	for _, c := range exact.Columns {
		b.Column(c)
	}
	objects.Main = r.Program
	for _, c := range r.Processes {
		exact.Fold(b, capture.ProgramName(r.Program), c, objects.Open)
	}
	p := b.Profile()
	p.Samples.Time = nil
	return &foldedRun{r, p}, nil
}

// exactFacts are what is known of runs that have ended.
func exactFacts(runs []*foldedRun) profile.Facts {
	first := runs[0]
	x := &profile.Exact{Runs: len(runs), Processes: len(first.Processes)}
	for _, c := range first.Processes {
		x.Merged, x.Uncounted, x.Unmatched = x.Merged+int64(c.Merged), x.Uncounted+int64(c.Uncounted), x.Unmatched+int64(c.Unmatched)
		switch c.Ended {
		case counts.Killed:
			x.Killed++
		case counts.Left:
			x.Left++
		}
	}
	var profiles []*profile.Profile
	for _, r := range runs {
		x.Totals, profiles = append(x.Totals, r.profile.Total(0)), append(profiles, r.profile)
	}
	if len(runs) > 1 {
		x.Varied = exact.Varied(profiles)
		x.Varying = len(x.Varied)
		for i, v := range x.Varied {
			d := [2]int64{v.Instructions[1] - v.Instructions[0], v.Calls[1] - v.Calls[0]}
			for k := range d {
				x.VariedBy[k] += d[k]
				if i >= profile.MaxVaried {
					x.Rest[k] = max(x.Rest[k], d[k])
				}
			}
		}
		x.Varied = x.Varied[:min(len(x.Varied), profile.MaxVaried)]
	}
	code := first.Code
	f := profile.Facts{
		DurationNS: first.Took.Nanoseconds(), Samples: int64(first.profile.Samples.Len()), EndedBy: "exit", ExitCode: &code, EndSignal: first.Signal,
		Exact: x, Executable: first.Program, Warnings: []profile.Warning{},
	}
	if x.Uncounted > 0 {
		f.Warn("exact-room", fmt.Sprintf("%d blocks of instructions had no room and are not counted.", x.Uncounted), "Run less of the program.")
	}
	if x.Merged > 0 {
		f.Warn("exact-merged", fmt.Sprintf("%d calls came from more chains of callers than there is room for; they stand under their caller.", x.Merged), "Totals of functions are whole; run less of the program to tell the chains apart.")
	}
	if x.Killed > 0 {
		f.Warn("exact-killed", fmt.Sprintf("%d of %d processes ended before they could say so; what they had done is counted.", x.Killed, x.Processes), "Take it again if the rest matters.")
	}
	if x.Left > 0 {
		f.Warn("exact-left", fmt.Sprintf("%d of %d processes went on with a program that the emulator does not run, which is not counted.", x.Left, x.Processes), "It is for another processor, or runs with the rights of its file's owner.")
	}
	if code != 0 {
		f.Warn("failed", fmt.Sprintf("The command ended with exit code %d.", code), "Make sure that it did what you want to measure.")
	}
	return f
}

// exactSummary says what came of it.
func exactSummary(say func(string), f *profile.Facts, p *profile.Profile) {
	x := f.Exact
	say(fmt.Sprintf("%s instructions and %s calls in %s", terminal.Thin(p.Total(0)), terminal.Thin(p.Total(1)), several(x.Processes, "process", "processes")))
	if x.Runs < 2 {
		return
	}
	if x.Varying == 0 {
		say("the second run was the same to the last instruction")
		return
	}
	most := x.Varied[0]
	say(fmt.Sprintf("%d functions differ between the two runs, %s most: %s to %s instructions of its own; in all %s and %s", x.Varying, most.Function, terminal.Thin(most.Instructions[0]), terminal.Thin(most.Instructions[1]), terminal.Thin(x.Totals[0]), terminal.Thin(x.Totals[1])))
}
