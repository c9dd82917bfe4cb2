package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"os/signal"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"
	"golang.org/x/sys/unix"
	"golang.org/x/term"

	"entelon/capture"
	"entelon/capture/launch"
	"entelon/cmd/entelon/measures"
	"entelon/cmd/entelon/option"
	"entelon/cmd/entelon/reading"
	"entelon/cmd/entelon/symbols"
	"entelon/cmd/entelon/terminal"
	"entelon/codec/formats"
	"entelon/codec/takefile"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/samplingcost"
	"entelon/core/scope"
	"entelon/core/until"
	"entelon/core/workload"
	"entelon/diagnose/doctor"
)

const defaultRate = 997 // a prime, so that it does not run in step with timers

// seconds is a duration flag that also takes a plain number of seconds.
type seconds time.Duration

func (s *seconds) String() string { return time.Duration(*s).String() }
func (s *seconds) Type() string   { return "duration" }
func (s *seconds) Set(v string) error {
	if n, err := strconv.ParseFloat(v, 64); err == nil {
		v = strconv.FormatFloat(n, 'f', -1, 64) + "s"
	}
	d, err := time.ParseDuration(v)
	if err != nil || d <= 0 {
		return fmt.Errorf("%q is not a time; write 10s, 500ms or 2m", v)
	}
	*s = seconds(d)
	return nil
}

type takeFlags struct {
	settings              profile.Settings
	out                   string
	during                seconds
	stack                 option.Size
	cutShare              float64 // percent
	budget                option.Share
	against, againstBuild string
	repeat                int
	until                 *until.Rule         // when enough takes were made, nil for all of them
	made                  func(*profile.Take) // is shown each take
	name                  string              // a pattern of processes
	spansAt               string              // where spans are received
	quiet                 bool                // say nothing, and let the command say nothing
	symbols               option.Symbols
}

func takeCommand() *cobra.Command {
	var f takeFlags
	c := &cobra.Command{
		Use:   "take [flags] (--pid PID | --name PATTERN | --machine | --group NAME | -- COMMAND ARGS…)",
		Short: "Sample a command from start to end, running processes, or the whole machine",
		Long: `Samples a command that it launches, or a process that is running, with
everything that they start, and writes a take.

A launched command keeps its streams, directory, environment, signals and exit
code; its exit code is also Entelon's. Ctrl-C ends the collecting and keeps the
take. With --for, the collecting ends after that time; a launched command goes on
and Entelon waits for it.

Programs in Python, on Node.js and in Java are recognised. Node.js and Java are
started with the options that they need so that their functions have names, and
what was added is printed.

What is added up, with --measure, which may be given several times:

` + measures.Help(),
		Example: `  entelon take -- ./engraved --scores 200
  entelon take --out before.take --program engraved --build 3.4.0 -- ./engraved --scores 200
  entelon take --pid 4711 --for 10s --out live.take
  entelon take --name 'engraved*' --for 10s
  entelon take --rate 99 --dir /srv/scores --env WORKERS=4 -- ./partbook full.score
  entelon take -- python3 partbook.py full.score
  entelon take --measure cpu,waiting -- ./engraved --scores 200
  entelon take --measure syscalls --measure allocations -- ./inkraster score.pages
  entelon take --machine --for 10s
  entelon take --machine --for 10s --keep 'process is engraved, inkraster and not idle'
  entelon take --budget 0.5% --bare-first 5 -- ./engraved --scores 200
  entelon take --against ./engraved-3.4.0 --out x.take -- ./engraved-3.5.0 --scores 200
  entelon take --until 'sure 2%' -- ./engraved --scores 200
  entelon take --until decided --against ./engraved-3.4.0 --out x.take -- ./engraved-3.5.0 --scores 200
  entelon take --repeat 5 --work-from '^([0-9]+) scores' -- ./engraved --scores 200
  entelon take --spans-at 127.0.0.1:4318 -- ./engraved --scores 200
  entelon take --stack 32k --debug-dir /srv/debug -- ./inkraster score.pages`,
		RunE: func(cmd *cobra.Command, args []string) error {
			return runTake(cmd.Context(), f, cmd.Flags().Changed("rate"), args)
		},
	}
	c.Flags().SetInterspersed(false)
	c.Flags().IntVar(&f.settings.RateHz, "rate", defaultRate, "samples for each second of processor time, in `HZ`")
	c.Flags().Var(&f.budget, "budget", "choose the rate so that sampling slows the program by no more than this share, such as 0.5%")
	c.Flags().IntVar(&f.settings.BarePairs, "bare-first", 0, "run the command without sampling first, and in `PAIRS` of runs with and without if more than 1; the take says what sampling cost, from 3 on with its interval")
	c.Flags().Lookup("bare-first").NoOptDefVal = "1"
	c.Flags().IntVar(&f.repeat, "repeat", 1, "make this `NUMBER` of takes in a row, kept as a group")
	c.Flags().StringVar(&f.settings.Until, "until", "", "make takes until enough is known: 'sure 2%' of the whole, 'slur.Route sure 5%' of a function, or with --against 'decided' or 'decided 3%'; at most as many as --repeat says (30, or 20 of each side)")
	c.Flags().StringVar(&f.against, "against", "", "interleave this `COMMAND` with the other, as its baseline; one word alone gets the other's arguments (five takes each, or as --repeat says)")
	c.Flags().StringVar(&f.againstBuild, "against-build", "", "the `NAME` of the baseline's build (default: found in the binary)")
	c.Flags().Float64Var(&f.settings.Work, "work", 0, "the program does this `NUMBER` of units of work; the take says the cost of one")
	c.Flags().StringVar(&f.settings.WorkFrom, "work-from", "", "take the units of work from the program's output, by an `EXPRESSION` with the number in brackets; it then writes to a pipe")
	c.Flags().Var(&f.during, "for", "stop collecting after this time, such as 10s or 2m")
	c.Flags().StringVarP(&f.out, "out", "o", "", "the `FILE.take` to write (default PROGRAM-BUILD-TIME.take)")
	c.Flags().StringVar(&f.settings.Dir, "dir", "", "run the command in this `DIR`")
	c.Flags().StringVar(&f.settings.User, "user", "", "run the command as the user `NAME`; needs the rights of root")
	c.Flags().StringArrayVar(&f.settings.Env, "env", nil, "set `K=V` in the command's environment; may be repeated")
	c.Flags().StringVar(&f.settings.Program, "program", "", "the program's `NAME` (default: of its file)")
	c.Flags().StringVar(&f.settings.Build, "build", "", "the build's `NAME` (default: found in the binary)")
	c.Flags().BoolVar(&f.settings.WithSource, "with-source", false, "keep the source files of the program's own functions with the take, for the lens Lines")
	c.Flags().StringVar(&f.settings.Note, "note", "", "a `TEXT` to keep with the take")
	c.Flags().StringVar(&f.settings.Workload, "workload", "", "what the program is made to do, by a `NAME`: only takes of one workload are measured against each other (default: found from the command)")
	c.Flags().BoolVar(&f.settings.KeepSecrets, "keep-secrets", false, "keep arguments and variables that look like passwords or keys as they are; else they are masked in the take")
	c.Flags().IntSliceVar(&f.settings.PIDs, "pid", nil, "sample the running process `PID`; may be repeated")
	c.Flags().StringVar(&f.name, "name", "", "sample all running processes whose name is like this `PATTERN`, such as 'engraved*'")
	c.Flags().StringVar(&f.settings.Children, "children", "", `"yes" or "no": sample children that run already, too (default: where the process leaves the work to them)`)
	c.Flags().BoolVar(&f.settings.Machine, "machine", false, "sample everything that runs on this machine")
	c.Flags().StringVar(&f.settings.Group, "group", "", "sample everything in the control group `NAME`, as below /sys/fs/cgroup")
	c.Flags().StringArrayVarP(&f.settings.Measures, "measure", "m", nil, "add up this `MEASURE`; may be repeated (default cpu)")
	c.Flags().StringVar(&f.settings.Keep, "keep", "", "keep only the samples that this `EXPRESSION` holds, such as: thread is worker-* and not code is kernel")
	c.Flags().Var(&f.stack, "stack", "copy this much of the stack with each sample, up to 62k (default 4k, and up to 256k more of deeper ones; 24k where that is not allowed)")
	c.Flags().StringVar(&f.settings.Event, "event", "", `what triggers a sample of processor time: "cycles" of the processor, the "cpu-clock", or each thread's own "thread-clock", which sees nothing of what runs shorter than a tick (default cycles where the machine has them, else the clock)`)
	c.Flags().StringVar(&f.settings.Unwind, "unwind", capture.UnwindTables, `walk stacks by "tables" or by "frame pointers" alone`)
	c.Flags().Float64Var(&f.cutShare, "warn-cut", 1, "warn when this share of the stacks is cut off, in `PERCENT`")
	c.Flags().BoolVar(&f.settings.AsIs, "as-is", false, "add no options to a command for the runtime that it starts, such as node or java")
	c.Flags().StringVar(&f.spansAt, "spans-at", "", "receive the spans that programs send by OpenTelemetry's protocol (OTLP over HTTP and gRPC) at this `ADDRESS`, such as 127.0.0.1:4318; a launched command is told of it")
	f.symbols.Add(c)
	_ = c.RegisterFlagCompletionFunc("event", cobra.FixedCompletions([]string{capture.EventClock, capture.EventThreadClock, capture.EventCycles}, cobra.ShellCompDirectiveNoFileComp))
	_ = c.RegisterFlagCompletionFunc("unwind", cobra.FixedCompletions([]string{capture.UnwindTables, capture.UnwindFramePointers}, cobra.ShellCompDirectiveNoFileComp))
	_ = c.RegisterFlagCompletionFunc("measure", measures.CompleteMeasures)
	_ = c.RegisterFlagCompletionFunc("group", measures.CompleteGroups)
	_ = c.RegisterFlagCompletionFunc("pid", measures.CompleteProcesses)
	_ = c.MarkFlagDirname("dir")
	return c
}

func (f *takeFlags) check(args []string) error {
	f.settings.Command = args
	f.settings.ForNS = int64(f.during)
	f.settings.StackBytes = int(f.stack)
	f.settings.CutShare = f.cutShare / 100
	f.settings.BareFirst = f.settings.BarePairs > 0
	f.settings.Measures = measure.Split(f.settings.Measures)
	if name := workload.Name(f.settings.Workload); name == "" && f.settings.Workload != "" {
		return fmt.Errorf("--workload %q: give a name", f.settings.Workload)
	} else {
		f.settings.Workload = name
	}
	if _, err := measure.ParseAll(f.settings.Measures); err != nil {
		return err
	}
	if _, err := option.ParseScope("--keep", f.settings.Keep); err != nil {
		return err
	}
	chosen := 0
	for _, is := range []bool{len(args) > 0, len(f.settings.PIDs) > 0, f.name != "", f.settings.Machine, f.settings.Group != ""} {
		if is {
			chosen++
		}
	}
	switch {
	case f.repeat < 1 || f.repeat > 1000:
		return fmt.Errorf("--repeat %d: give a number from 1 to 1000", f.repeat)
	case f.settings.Work < 0 || math.IsInf(f.settings.Work, 0) || math.IsNaN(f.settings.Work):
		return fmt.Errorf("--work %v: give a number above 0", f.settings.Work)
	case f.settings.Work > 0 && f.settings.WorkFrom != "":
		return errors.New("give either --work or --work-from, not both")
	case len(args) == 0 && (f.settings.BareFirst || f.repeat > 1 || f.settings.WorkFrom != "" || f.against != ""):
		return errors.New("--bare-first, --repeat, --against and --work-from are for a launched command")
	case f.settings.BarePairs < 0 || f.settings.BarePairs > 100:
		return fmt.Errorf("--bare-first %d: give a number of pairs from 1 to 100", f.settings.BarePairs)
	case f.against == "" && f.againstBuild != "":
		return errors.New("--against-build is for --against")
	case strings.ContainsAny(f.against, `"'`) || f.against != "" && len(strings.Fields(f.against)) == 0:
		return fmt.Errorf("--against %q: quotes are not supported here; put a command that needs them into a script", f.against)
	case chosen == 0:
		return errors.New("nothing to sample; give a command after --, or --pid PID, --name PATTERN, --machine or --group NAME")
	case chosen > 1:
		return errors.New("give either a command or --pid, --name, --machine or --group, not several")
	case f.cutShare <= 0 || f.cutShare > 100:
		return fmt.Errorf("--warn-cut %v: give a share from above 0 to 100", f.cutShare)
	case f.settings.Children != "" && f.settings.Children != capture.ChildrenYes && f.settings.Children != capture.ChildrenNo:
		return fmt.Errorf("--children %s: choose yes or no", f.settings.Children)
	case f.settings.Children != "" && len(f.settings.PIDs) == 0 && f.name == "":
		return errors.New("--children is for --pid and --name; of a command all children are sampled")
	case len(args) == 0 && f.settings.User != "":
		return errors.New("--user is for a launched command")
	case len(args) == 0 && (f.settings.Dir != "" || len(f.settings.Env) > 0):
		return errors.New("--dir and --env are for a launched command; a running process has its own")
	}
	if format, err := formats.ForFile(f.out); err == nil && format.Name != "take" {
		return fmt.Errorf("--out %s: a take is written, so its name must end in .take; make a %s of it then, with: entelon export X.take --out %s", f.out, format.Name, f.out)
	}
	for _, pid := range f.settings.PIDs {
		if pid <= 0 {
			return fmt.Errorf("%d is not a process ID", pid)
		}
	}
	for _, kv := range f.settings.Env {
		if k, _, ok := strings.Cut(kv, "="); !ok || k == "" {
			return fmt.Errorf("--env %q: write it as NAME=VALUE", kv)
		}
	}
	return nil
}

func runTake(ctx context.Context, f takeFlags, rateGiven bool, args []string) error {
	if err := f.check(args); err != nil {
		return err
	}
	if _, err := launch.NewWorkReader(io.Discard, f.settings.WorkFrom); err != nil {
		return fmt.Errorf("--work-from: %w", err)
	}
	say := func(text string) { fmt.Fprintln(os.Stderr, "entelon: "+text) }
	if err := f.attach(say); err != nil {
		return err
	}
	if f.budget > 0 && rateGiven {
		return errors.New("give either --rate or --budget, which chooses the rate")
	}
	if f.budget > 0 {
		f.settings.Budget = float64(f.budget)
		if err := doctor.ChooseRate(ctx, &f.settings, say); err != nil {
			return fmt.Errorf("--budget: %w", err)
		}
	}
	if err := f.readUntil(say); err != nil {
		return fmt.Errorf("--until: %w", err)
	}
	if f.against != "" {
		return f.inTurns(ctx, say)
	}
	if f.repeat == 1 {
		return f.one(ctx, say)
	}
	f.settings.Series, f.settings.Turns = seriesName(), f.repeat
	out := f.out
	var r row
	if f.until != nil {
		f.made = r.add(f.until, 0)
	}
	for turn := 1; turn <= f.repeat; turn++ {
		f.settings.Turn = turn
		if out != "" {
			f.out = numbered(out, turn)
		}
		say(fmt.Sprintf("take %d of %d", turn, f.repeat))
		// A turn that failed or was ended by the user ends the row.
		if err := f.one(ctx, say); err != nil {
			return err
		}
		if f.until != nil {
			if done, err := r.enough(f.until, say); done || err != nil {
				return err
			}
		}
	}
	return nil
}

// attach finds the processes that are sampled, and says which these are where that is not
// what was typed.
func (f *takeFlags) attach(say func(string)) error {
	if f.name != "" {
		pids, names, err := capture.ByName(f.name, os.Getpid())
		if err != nil {
			return fmt.Errorf("--name: %w", err)
		}
		f.settings.PIDs = pids
		say(fmt.Sprintf("sampling %s (%s)", processes(pids), strings.Join(names, ", ")))
	}
	notice, err := capture.WithChildren(&f.settings)
	if notice != "" {
		say(notice)
	}
	return err
}

// processes names processes by number, a few of them.
func processes(pids []int) string {
	const shown = 8
	text := strings.Trim(fmt.Sprint(pids[:min(shown, len(pids))]), "[]")
	switch {
	case len(pids) == 1:
		return "process " + text
	case len(pids) > shown:
		return fmt.Sprintf("processes %s and %d more", text, len(pids)-shown)
	}
	return "processes " + text
}

// seriesName names the takes of one row; it only has to be another one each time.
func seriesName() string { return strconv.FormatInt(time.Now().UnixNano(), 36) }

// numbered puts a number before a file's ending.
func numbered(path string, n int) string {
	ext := filepath.Ext(path)
	return fmt.Sprintf("%s-%d%s", strings.TrimSuffix(path, ext), n, ext)
}

// one makes one take.
func (f takeFlags) one(ctx context.Context, say func(string)) error {
	finder, err := f.symbols.Finder()
	if err != nil {
		return err
	}
	sink := &takefile.File{Path: f.out}
	if err := sink.Prepare(); err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var bare *profile.Bare
	if f.settings.BareFirst {
		if bare, err = capture.BareFirst(ctx, capture.Options{Settings: f.settings, Stderr: os.Stderr, Finder: finder}); err != nil {
			return err
		}
	}
	sig := watchSignals(cancel, len(f.settings.Command) == 0)
	defer sig.stop()

	show, hide := progress(f.settings)
	var stdout, stderr io.Writer = os.Stdout, os.Stderr
	if f.quiet {
		show, hide, stdout, stderr = nil, func() {}, io.Discard, io.Discard
	}
	o := capture.Options{
		Settings: f.settings, Stdin: os.Stdin, Stdout: stdout, Stderr: stderr, Progress: show, Finder: finder, Bare: bare,
		Notice: say, Work: func() float64 { return f.settings.Work },
	}
	received, err := f.receive(&o, say)
	if err != nil {
		return err
	}
	defer received()
	if f.settings.WorkFrom != "" {
		r, err := launch.NewWorkReader(os.Stdout, f.settings.WorkFrom)
		if err != nil {
			return err
		}
		o.Stdout, o.Work = r, r.Work
	}
	res, err := capture.Collect(ctx, o, sink)
	hide()
	if err != nil {
		return errors.Join(err, sink.Discard())
	}
	sig.to(res.Signal)
	if f.made != nil {
		f.made(res.Take)
	}
	if err := sink.Close(res.SinkErr); err != nil {
		fmt.Fprintln(os.Stderr, "entelon: "+terminal.OneLine(err))
		res.Wait()
		return option.ExitCode(1)
	}
	if sink.Aside != "" {
		say(fmt.Sprintf("%s already existed; it is now %s", sink.Path, sink.Aside))
	}
	if !f.quiet {
		summary(terminal.PlainWriter{To: os.Stderr}, res.Take, sink.Path)
	}
	if f.symbols.Note != "" {
		say(f.symbols.Note)
	}
	if code := await(res); code != 0 {
		return option.ExitCode(code)
	}
	return ctxEnded(ctx, f)
}

// ctxEnded is an error where the user ended a take that others were to follow.
func ctxEnded(ctx context.Context, f takeFlags) error {
	if ctx.Err() != nil && f.settings.Turn < f.settings.Turns {
		return fmt.Errorf("ended after take %d of %d", f.settings.Turn, f.settings.Turns)
	}
	return nil
}

// await returns the command's exit code, and says so if it has to wait for it.
func await(res *capture.Result) int {
	ended := make(chan int, 1)
	go func() { ended <- res.Wait() }()
	select {
	case code := <-ended:
		return code
	case <-time.After(500 * time.Millisecond):
	}
	fmt.Fprintln(os.Stderr, "entelon: the command goes on; waiting for it to end (Ctrl-C goes to the command)")
	return <-ended
}

// signals hands what Entelon is sent on to the launched command, as if the
// command had been started without it.
type signals struct {
	ch      chan os.Signal
	targets chan func(int)
	done    chan struct{}
}

func watchSignals(cancel func(), attached bool) *signals {
	s := &signals{ch: make(chan os.Signal, 16), targets: make(chan func(int), 1), done: make(chan struct{})}
	for _, sg := range []syscall.Signal{syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGQUIT, syscall.SIGUSR1, syscall.SIGUSR2} {
		// One that was ignored when we were started stays so, for the command too.
		if !signal.Ignored(sg) {
			signal.Notify(s.ch, sg)
		}
	}
	go s.run(cancel, attached)
	return s
}

func (s *signals) run(cancel func(), attached bool) {
	var pending []int
	var target func(int)
	hand := func(sig int) {
		if target == nil {
			pending = append(pending, sig)
		} else {
			target(sig)
		}
	}
	for {
		select {
		case <-s.done:
			return
		case target = <-s.targets:
			for _, sig := range pending {
				target(sig)
			}
			pending = nil
		case sg := <-s.ch:
			sig, _ := sg.(syscall.Signal)
			keyboard := (sig == syscall.SIGINT || sig == syscall.SIGQUIT) && inForeground()
			if !attached && !keyboard { // the terminal has sent its own to the command already
				hand(int(sig))
			}
			if sig != syscall.SIGUSR1 && sig != syscall.SIGUSR2 {
				cancel()
			}
		}
	}
}

func (s *signals) to(target func(int)) { s.targets <- target }

func (s *signals) stop() {
	signal.Stop(s.ch)
	close(s.done)
}

// inForeground reports whether a terminal sends its keyboard signals to our
// process group.
func inForeground() bool {
	tty, err := os.OpenFile("/dev/tty", os.O_RDWR, 0)
	if err != nil {
		return false
	}
	defer tty.Close()
	group, err := unix.IoctlGetInt(int(tty.Fd()), unix.TIOCGPGRP)
	return err == nil && group == unix.Getpgrp()
}

// progress shows a line on a terminal while the take runs.
func progress(s profile.Settings) (show func(capture.Progress), hide func()) {
	if !term.IsTerminal(int(os.Stderr.Fd())) {
		return nil, func() {}
	}
	bar := progressbar.NewOptions64(-1,
		progressbar.OptionSetWriter(os.Stderr), progressbar.OptionClearOnFinish(),
		progressbar.OptionThrottle(400*time.Millisecond), progressbar.OptionSpinnerType(9), progressbar.OptionSetElapsedTime(false))
	total := ""
	if s.ForNS > 0 {
		total = fmt.Sprintf(" of %.0f", float64(s.ForNS)/1e9)
	}
	show = func(p capture.Progress) {
		text := fmt.Sprintf("sampling: %.1f%s s, %s samples", p.Elapsed.Seconds(), total, terminal.Thin(p.Samples))
		if p.Lost > 0 {
			text += fmt.Sprintf(", %s lost", terminal.Thin(p.Lost))
		}
		bar.Describe(text + " (Ctrl-C ends)")
		// A progress line that cannot be written is not worth ending a take for.
		_ = bar.Add(1)
	}
	return show, func() { _ = bar.Finish() }
}

func summary(w io.Writer, t *profile.Take, path string) {
	b := bufio.NewWriter(w)
	f := t.Facts
	fmt.Fprintf(b, "\n%s %s: %.2f s, %.2f s CPU, %s samples, %s lost, %.1f %% of stacks complete\n",
		t.Settings.Program, t.Settings.Build, float64(f.DurationNS)/1e9, float64(f.CPUNS)/1e9, terminal.Thin(f.Samples), terminal.Thin(f.Lost), 100*f.CompleteShare())
	if f.Bare != nil {
		fmt.Fprintln(b, samplingcost.Words(f.Bare))
	}
	if f.Work > 0 {
		fmt.Fprintf(b, "%s units of work: %s of CPU time each\n", strconv.FormatFloat(f.Work, 'f', -1, 64), measure.Amount(int64(float64(f.CPUNS)/f.Work), "ns"))
	}
	several := len(t.Profile.Measures) > 1
	for m := range t.Profile.Measures {
		w := t.Profile.Words(m)
		if w.Beside {
			continue
		}
		limit := 5
		if several {
			limit = 3
		}
		rows, c := reading.HotRows(t, m, scope.Scope{}, "self", limit, "")
		if several || w.Name != "cpu" {
			how, _ := t.CountingOf(m)
			fmt.Fprintf(b, " %s: %s%s\n", w.Label, measure.Amount(c.Total(0), w.Unit), profile.Partial(how.Lost))
		}
		for _, r := range rows {
			if r.Self == 0 {
				break
			}
			fmt.Fprintf(b, "  %5.1f %%  %10s  %s\n", 100*float64(r.Self)/float64(c.Total(0)), measure.Amount(r.Self, w.Unit), terminal.Shown(r.Name, false))
		}
	}
	for _, x := range f.Warnings {
		fmt.Fprintf(b, "  ! %s %s\n", x.Text, symbols.RemedyFor(x, path))
	}
	fmt.Fprintf(b, "kept in %s\n", path)
	// The summary goes to a terminal or a log; losing it loses no data.
	_ = b.Flush()
}
