// Package session makes takes of exact runs: it runs a command, once more to learn what varies
// by itself, names what was counted, and hands it to a sink with what is to be known of it.
//
// A session belongs to the goroutine that asks for it.
package session

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"entelon/capture"
	"entelon/capture/pairing"
	"entelon/core/profile"
	"entelon/exact"
	"entelon/exact/counts"
	"entelon/symbol"
)

// Options say what is run.
type Options struct {
	Settings       profile.Settings // command, folder, environment, names, and whether it is run once
	Input          Input            // nil: nothing is to be read
	Stdout, Stderr io.Writer        // of the first run; nil for nowhere. Errors of the second run come, too
	Finder         *symbol.Finder
	Started        func(signal func(int)) // is given what hands a signal to the command; may be nil
	Apart          bool                   // see exact.Options
	Again          func()                 // is told before the second run; may be nil
}

// Input is the same for each run.
type Input interface {
	Next() (*os.File, error) // what the next run reads
	Ended()                  // that run has ended
}

// Result is what a sink was given.
type Result struct {
	Profile *profile.Profile
	Facts   profile.Facts
	Code    int // the command's exit code
}

// folded is a run with its profile.
type folded struct {
	*exact.Run
	profile *profile.Profile
}

// Make runs the command and gives the sink what it did. A command that is stopped, as ctx says,
// has done what it did until then; why is then the context's cause.
func Make(ctx context.Context, o Options, sink pairing.Sink) (*Result, error) {
	o.Settings.Caches = slices.Clone(o.Settings.Caches)
	exact.Settle(&o.Settings)
	if err := errors.Join(o.part().Check(), exact.CheckMemory(&o.Settings)); err != nil {
		return nil, err
	}
	set := o.Settings
	set.Exact, set.Measures = true, []string{}
	began := time.Now()
	objects := exact.NewObjects(o.Finder)
	defer objects.Close()
	first, err := o.once(objects, o.Stdout)
	if err != nil {
		return nil, err
	}
	runs := []*folded{first}
	if !set.Once && ctx.Err() == nil {
		if o.Again != nil {
			o.Again()
		}
		again, err := o.once(objects, nowhere(o.Stdout))
		if err != nil {
			return nil, err
		}
		if ctx.Err() == nil { // one that was stopped says nothing of what varies
			runs = append(runs, again)
		}
	}
	machine := capture.Machine()
	machine.StartedAt = began
	facts := factsOf(runs)
	if n := first.broken(); n > 0 {
		facts.Warn("exact-goroutines", fmt.Sprintf("%d times a stack went on of which nothing was known: chains of callers begin in the middle there.", n), "What functions cost themselves, and how often they are called, is right in any case.")
	}
	interpreter := exact.Interpreter(first.Processes)
	if interpreter != "" {
		facts.Warn("exact-interpreted", fmt.Sprintf("Code ran in %s, whose own functions are counted; those of the code that it interprets, or makes as it runs, do not appear.", interpreter), "Samples have them for Python, Node.js and Java.")
	}
	if x := facts.Exact; len(runs) > 1 && float64(x.VariedBy[0]) > variesMuch*float64(x.Totals[0]) {
		facts.Warn("exact-varies", fmt.Sprintf("Two runs of the same differ by %.2f %% in what their functions do; a difference between builds counts only where it is larger.", 100*float64(x.VariedBy[0])/float64(x.Totals[0])), steadier(objects.Go, interpreter))
	}
	if facts.Work = set.Work; facts.Work == 0 && set.Inside != "" {
		facts.Work = float64(o.part().Counted(first.Entered())) // each of its calls is a unit of work
	}
	if n := o.part().Counted(first.Entered()); n < set.Calls {
		facts.Warn("exact-calls", fmt.Sprintf("%s was called %d times after those that were skipped, and %d calls were to be counted.", set.Inside, n, set.Calls), "Let the program do more, or count fewer.")
	}
	if ctx.Err() != nil && len(runs) == 1 {
		facts.EndedBy = "user"
		if context.Cause(ctx) == context.DeadlineExceeded {
			facts.EndedBy = "time"
		}
	}
	exact.Identify(&set, &facts, first.Asked, capture.ProgramName)
	if err := sink.Begin(set, machine); err != nil {
		return nil, err
	}
	r := &Result{first.profile, facts, first.Code}
	if err := sink.Append(first.profile); err != nil {
		return r, err
	}
	return r, sink.Facts(facts)
}

// nowhere is where a further run writes: to nobody, but to a thing of the same kind, since programs
// write otherwise to a device than to a pipe.
func nowhere(first io.Writer) io.Writer {
	if f, ok := first.(*os.File); ok {
		if st, err := f.Stat(); err == nil && st.Mode()&os.ModeCharDevice != 0 {
			return nil
		}
	}
	if first == nil {
		return nil
	}
	return io.Discard // through a pipe
}

// variesMuch is from which share of its instructions on a program is said to vary by itself.
const variesMuch = 0.001

// steadier says what makes a program vary less.
func steadier(isGo bool, interpreter string) string {
	switch {
	case isGo:
		return "GOMAXPROCS=1, GODEBUG=asyncpreemptoff=1,memprofilerate=0 and, where there is memory for it, GOGC=off make a Go program steadier; set them with --env."
	case strings.Contains(interpreter, "python"):
		return "PYTHONHASHSEED=0 makes a Python program steadier; set it with --env."
	case strings.Contains(interpreter, "node"):
		return "node --single-threaded --random-seed=1 is steadier."
	case strings.Contains(interpreter, "java"):
		return "java -Xint -XX:+UseSerialGC is steadier."
	}
	return "Fewer threads, a fixed seed of what is random, and no clock make it steadier."
}

// part is what of a run counts.
func (o *Options) part() exact.Part {
	return exact.Part{Inside: o.Settings.Inside, After: o.Settings.After, Calls: o.Settings.Calls}
}

// broken is how often a stack went on of which nothing was known.
func (f *folded) broken() (n int64) {
	for _, c := range f.Processes {
		n += int64(c.Broken)
	}
	return n
}

// once makes one run.
func (o *Options) once(objects *exact.Objects, out io.Writer) (*folded, error) {
	x := exact.Options{Command: o.Settings.Command, Dir: o.Settings.Dir, Env: o.Settings.Env, Stdout: out, Stderr: o.Stderr, Started: o.Started, Apart: o.Apart, Part: o.part(), Finder: o.Finder, Memory: exact.MemoryOf(&o.Settings)}
	if o.Input != nil {
		in, err := o.Input.Next()
		if err != nil {
			return nil, err
		}
		x.Stdin = in
		defer o.Input.Ended()
	}
	r, err := exact.Once(x)
	if err != nil {
		return nil, err
	}
	objects.Main = r.Program
	return &folded{r, exact.Profile(capture.ProgramName, r.Processes, x.Memory, objects.Open)}, nil
}

// factsOf are what is known of runs that have ended.
func factsOf(runs []*folded) profile.Facts {
	first := runs[0]
	x := &profile.Exact{Runs: len(runs)}
	pids := map[uint32]bool{}
	var homeless, flat, lost, followed uint64
	for _, c := range first.Processes {
		pids[c.PID] = true
		homeless, flat, lost, followed = homeless+c.Homeless, flat+c.Flat, lost+c.Lost, followed+c.Followed
		x.Merged, x.Uncounted, x.Unmatched = x.Merged+int64(c.Merged), x.Uncounted+int64(c.Uncounted), x.Unmatched+int64(c.Unmatched)
		switch c.Ended {
		case counts.Killed:
			x.Killed++
		case counts.Left:
			x.Left++
		}
	}
	x.Processes = len(pids)
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
	if flat > 0 {
		f.Warn("exact-flat", fmt.Sprintf("%d executions of blocks came from more chains of callers than there is room for; they stand under their function alone.", flat), "What functions cost themselves is whole, totals are not; run less of the program, or count only inside a function.")
	}
	if homeless > 0 {
		f.Warn("exact-memory-room", fmt.Sprintf("%d accesses to memory had no room and are not counted.", homeless), "Run less of the program, or count only inside a function.")
	}
	if x.Merged > 0 {
		f.Warn("exact-merged", fmt.Sprintf("%d calls came from more chains of callers than there is room for; they stand at the root, without their callers.", x.Merged), "Calls and costs of the functions themselves are whole, totals are not; run less of the program, or count only inside a function.")
	}
	if lost > 0 {
		f.Warn("exact-calls-room", fmt.Sprintf("%d calls had no room and are not counted.", lost), "Run less of the program, or count only inside a function.")
	}
	if followed > 0 {
		f.Warn("exact-threads", fmt.Sprintf("%d threads have no counts of their own: each stands with one that had ended before it began.", followed), "Functions and chains of callers are whole; only these threads cannot be told apart.")
	}
	if n := first.Unread; n > 0 {
		f.Warn("exact-processes", fmt.Sprintf("%d processes are left out: there were more than can be added up.", n), "Run less of the program, or one of the commands that it runs.")
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
