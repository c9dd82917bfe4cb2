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
		again, err := o.once(objects, nil)
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
	if objects.Interpreter != "" {
		facts.Warn("exact-interpreted", fmt.Sprintf("%s runs the program: what is counted are its own functions, and the program's are not told apart.", objects.Interpreter), "Take samples of it, which have them.")
	}
	if x := facts.Exact; len(runs) > 1 && float64(x.VariedBy[0]) > variesMuch*float64(x.Totals[0]) {
		facts.Warn("exact-varies", fmt.Sprintf("Two runs of the same differ by %.2f %% in what their functions do; a difference between builds counts only where it is larger.", 100*float64(x.VariedBy[0])/float64(x.Totals[0])), steadier(objects))
	}
	if facts.Work = set.Work; facts.Work == 0 && set.Inside != "" {
		facts.Work = float64(o.part().Counted(first.entered())) // each of its calls is a unit of work
	}
	if n := o.part().Counted(first.entered()); n < set.Calls {
		facts.Warn("exact-calls", fmt.Sprintf("%s was called %d times after those that were skipped, and %d calls were to be counted.", set.Inside, n, set.Calls), "Let the program do more, or count fewer.")
	}
	if ctx.Err() != nil && len(runs) == 1 {
		facts.EndedBy = "user"
		if context.Cause(ctx) == context.DeadlineExceeded {
			facts.EndedBy = "time"
		}
	}
	exact.Identify(&set, &facts, objects.Main, capture.ProgramName)
	if err := sink.Begin(set, machine); err != nil {
		return nil, err
	}
	r := &Result{first.profile, facts, first.Code}
	if err := sink.Append(first.profile); err != nil {
		return r, err
	}
	return r, sink.Facts(facts)
}

// variesMuch is from which share of its instructions on a program is said to vary by itself.
const variesMuch = 0.001

// steadier says what makes a program vary less.
func steadier(o *exact.Objects) string {
	switch name := o.Interpreter; {
	case o.Go:
		return "GOMAXPROCS=1, GODEBUG=asyncpreemptoff=1,memprofilerate=0 and, where there is memory for it, GOGC=off make a Go program steadier; set them with --env."
	case strings.Contains(name, "python"):
		return "PYTHONHASHSEED=0 makes a Python program steadier; set it with --env."
	case strings.Contains(name, "node"):
		return "node --single-threaded --random-seed=1 is steadier."
	case strings.Contains(name, "java"), strings.Contains(name, "jvm"):
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

// entered is how often the function was called of which a part counts.
func (f *folded) entered() (n int64) {
	for _, c := range f.Processes {
		n += int64(min(c.Entered, 1<<40))
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
	b := profile.NewBuilder()
	for _, c := range exact.Columns(x.Memory) {
		b.Column(c)
	}
	objects.Main = r.Program
	for _, c := range r.Processes {
		exact.Fold(b, capture.ProgramName(r.Program), c, x.Memory, objects.Open)
	}
	p := b.Profile()
	p.Samples.Time = nil
	return &folded{r, p}, nil
}

// factsOf are what is known of runs that have ended.
func factsOf(runs []*folded) profile.Facts {
	first := runs[0]
	x := &profile.Exact{Runs: len(runs), Processes: len(first.Processes)}
	var homeless, flat uint64
	for _, c := range first.Processes {
		homeless, flat = homeless+c.Homeless, flat+c.Flat
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
	if flat > 0 {
		f.Warn("exact-flat", fmt.Sprintf("%d executions of blocks came from more chains of callers than there is room for; they stand under their function alone.", flat), "What functions cost themselves is whole, totals are not; run less of the program, or count only inside a function.")
	}
	if homeless > 0 {
		f.Warn("exact-memory-room", fmt.Sprintf("%d accesses to memory had no room and are not counted.", homeless), "Run less of the program, or count only inside a function.")
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
