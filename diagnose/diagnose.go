// Package diagnose says what the reader of a take must know about the measurement: from
// the facts of a take and what else was seen while it was made to warnings, each with
// what can be done. It looks at nothing itself.
//
// It holds nothing: the facts belong to who calls.
package diagnose

import (
	"fmt"
	"math"
	"time"

	"entelon/core/measure"
	"entelon/core/profile"
)

// Evidence is what was seen of a take while it was made, besides its facts.
type Evidence struct {
	Settings  profile.Settings
	CPU       bool // processor time was measured
	Waiting   bool // waiting was measured
	SetUser   bool // the program runs with other rights than this user's
	Launched  bool // its command was started by Entelon
	Processes int  // that were attached to, or launched; 0: a machine or a group

	Kernel       bool   // the kernel's part was sampled
	KernelNames  error  // why the kernel's functions have no names
	KernelRemedy string // what helps against that

	SampledNS int64 // processor time that samples stand for, those that were not kept included
	Uncounted bool  // the kernel left samples out that were not to be kept, uncounted
	Started   int64 // threads and processes that began meanwhile

	NoTable     map[string]int64 // stacks by the file whose code has no call-frame tables
	MaxStack    int              // bytes of a stack that can be copied at most
	OtherStacks bool             // stacks that threads left behind were read
	OtherErr    error            // why not
	ByFrames    bool             // stacks were walked along frame pointers alone

	Unnamed     map[string]int64 // samples by the file whose functions have no names
	ExportsOnly map[string]int64 // samples by the file that has only exported functions' names
	InStacks    int64            // samples in all
	Cache       error            // why what was found out could not be kept
	Unreadable  []string         // files, each with the reason

	Met          map[string]bool // runtimes by name
	Maps         []Map
	JavaFrames   bool  // the Java machine keeps frame pointers
	PythonRead   bool  // frames of CPython were read
	PythonFailed error // why they cannot be
	MaxLabels    int   // labels of a sample that can be read

	Unoptimised string   // how one sees that the program was not built for speed
	NoWake      error    // why it is not known when waiting threads were woken
	Absent      []string // files that the command names and that were there neither before nor after
	Machine     [2]Time  // of the whole machine, before and after
	TickNS      int64    // of Machine's figures
	Hot         int      // processors that the machine slowed down since they were too hot
	HotTimes    int64
	Held        time.Duration // for which the control group was held back
	Sampler     string        // what else sampled on the machine, "" for nothing
}

// Map is what is wrong with the map of code that a process made at run time.
type Map struct {
	PID     uint32
	Missing error // why there is none
	Fault   error // in it
	Source  error // of a source map
}

// Time is the processor time of a whole machine, in ticks.
type Time struct{ Total, Idle, Stolen int64 }

// Shares and counts from which on a take says so.
const (
	warnCutShare     = 0.01  // of the stacks are cut off, where the user sets no other
	warnUnnamedShare = 0.05  // of the samples have no name
	warnNoLabels     = 0.005 // of the samples with labels
	warnTornShare    = 0.005 // of the stacks with an interpreter's frames
	warnFewSamples   = 1000
	warnHardlyAny    = 30
	warnRateShare    = 0.05 // of the clock's ticks are missing
	warnMissing      = 20e6 // nanoseconds that may be missing where there are hardly any samples
)

// Warn adds to the facts of a take what there is to say.
func Warn(f *profile.Facts, e *Evidence) {
	ofSamples(f, e)
	ofRun(f, e)
}

// ofSamples says what there is to know about the samples, and ends where there are too
// few to say anything of their stacks.
func ofSamples(f *profile.Facts, e *Evidence) {
	ofEnd(f)
	if !e.Kernel {
		f.Warn("no-kernel", "Time inside the kernel is missing: this user may not sample it.", "Run as root, or ask for: sysctl kernel.perf_event_paranoid=1")
	}
	if e.KernelNames != nil {
		f.Warn("kernel-names", "Kernel functions have no names: "+e.KernelNames.Error()+".", e.KernelRemedy)
	}
	samplesLost := f.Lost
	for _, c := range f.Counted {
		switch {
		case c.Thinned > 0 && !lasting(c.Measure):
			small := ""
			if m, err := measure.Parse(c.Measure); err == nil && m.Columns()[0].Unit == measure.Bytes {
				small = "were smaller than 64 KiB and "
			}
			f.Warn("thinned", fmt.Sprintf("Of %d events of %s, %d %scame too fast to be kept one by one. The total has them; single rows of Events do not.", c.Events, c.Measure, c.Thinned, small), "Choose fewer processes to keep more of them.")
		case c.Thinned > 0:
			f.Warn("thinned", fmt.Sprintf("Of %d events of %s, %d were shorter than 1 ms and came too fast to be kept one by one. The total has them; Lanes and Events do not.", c.Events, c.Measure, c.Thinned), "Choose fewer processes to keep more of them.")
		}
		if c.Unwritten > 0 {
			f.Warn("unwritten", fmt.Sprintf("Of %d events of %s, %d could not be kept one by one: there was no room. The total has them; Lanes and Events do not.", c.Events, c.Measure, c.Unwritten), "Collect on a machine that is less busy.")
		}
		if c.Lost == 0 {
			continue
		}
		samplesLost -= c.Lost
		remedy := "Collect as root, so that the kernel adds them up and loses none."
		if e.OtherStacks {
			remedy = "Choose fewer processes or functions."
		}
		f.Warn("partial", fmt.Sprintf("The total of %s is partial: %d of %d events (%.1f %%) came faster than they could be recorded.",
			c.Measure, c.Lost, c.Lost+c.Events, 100*float64(c.Lost)/float64(c.Lost+c.Events)), remedy)
	}
	if samplesLost > 0 {
		f.Warn("lost", fmt.Sprintf("The kernel lost %d records because a ring was full.", samplesLost), "Collect at a lower rate, or on a machine that is less busy.")
	}
	if share := float64(f.OwnNS) / float64(max(1, f.CPUNS)); f.OwnNS > 0 && share > warnOwn {
		f.Warn("own", fmt.Sprintf("Counting took %.0f %% of the processor time (%s of %s); it is not among the samples.", 100*share, measure.Amount(f.OwnNS, measure.Nanoseconds), measure.Amount(f.CPUNS, measure.Nanoseconds)),
			"Where seconds matter, measure CPU time in a separate take.")
	}
	if f.Throttled > 0 {
		f.Warn("throttled", fmt.Sprintf("The kernel paused sampling %d times to protect the machine.", f.Throttled), "Collect at a lower rate.")
	}
	ofClock(f, e)
	switch {
	case f.Samples == 0 && e.SetUser:
		f.Warn("set-user", "There are no samples: the program runs with the rights of its file's owner, and the kernel lets only root sample such a program.", "Collect as root.")
		return
	case f.Samples == 0 && f.LeftOut > 0:
		f.Warn("no-samples", fmt.Sprintf("None of the %d samples was to be kept: %s.", f.LeftOut, e.Settings.Keep), "Take it again with another --keep.")
		return
	case f.Samples == 0:
		f.Warn("no-samples", fmt.Sprintf("There are no samples; the program used %.3f s of processor time.", float64(f.CPUNS)/1e9), "Sample while it works, or for longer.")
		return
	case e.CPU && f.Samples < warnHardlyAny: // the other measures are counts
		f.Warn("few-samples", fmt.Sprintf("The number of samples is %d, too few to tell where the time goes.", f.Samples), "Sample while it works, or for longer.")
		return
	case e.CPU && f.Samples < warnFewSamples:
		share := 100 * 1.96 * math.Sqrt(0.1*0.9/float64(f.Samples))
		f.Warn("few-samples", fmt.Sprintf("There are only %d samples: a function with 10 %% of the time is known to within %.1f points.", f.Samples, share),
			fmt.Sprintf("Collect about %.0f times as long, or at a higher rate.", math.Ceil(warnFewSamples*2/float64(f.Samples))))
	}
	ofStacks(f, e)
	ofRuntimes(f, e)
	ofNames(f, e)
}

// signalWords are the signals that tell of a fault, in words.
var signalWords = map[string]string{
	"SIGSEGV": "it used memory that it does not have", "SIGBUS": "it used memory that could not be provided", "SIGILL": "it came to an instruction that there is not",
	"SIGFPE": "it divided by zero, or the like", "SIGABRT": "it gave up by itself", "SIGKILL": "somebody ended it by force, or the system did because memory was short",
	"SIGTERM": "somebody asked it to end", "SIGINT": "somebody asked it to end", "SIGPIPE": "nobody read what it wrote", "SIGXCPU": "it had used up the processor time that it was allowed",
}

// ofEnd says how a command ended that did not end well.
func ofEnd(f *profile.Facts) {
	const remedy = "Make sure that it did the work that you want to measure."
	switch {
	case f.EndSignal != "":
		why := ""
		if w := signalWords[f.EndSignal]; w != "" {
			why = ": " + w
		}
		f.Warn("failed", fmt.Sprintf("The command was ended by %s%s.", f.EndSignal, why), remedy)
	case f.ExitCode != nil && *f.ExitCode != 0:
		f.Warn("failed", fmt.Sprintf("The command ended with exit code %d.", *f.ExitCode), remedy)
	}
}

// ofClock compares the samples with the processor time that the kernel counted for the
// same threads. The clock of each thread begins anew with the thread, so one that ends
// between two ticks loses the time since the last; where many come and go, that is most
// of what is missing. A process loses up to two ticks: as a copy of its parent, and as
// what it becomes. A host that takes time away makes what is missing larger still, so
// half of it is enough to say so.
func ofClock(f *profile.Facts, e *Evidence) {
	if !e.CPU || e.Uncounted {
		return
	}
	missing := f.CPUNS - e.SampledNS
	noise := 3 / math.Sqrt(float64(max(1, f.Samples)))
	if math.Abs(float64(missing))/float64(max(1, f.CPUNS)) <= warnRateShare+noise && (f.Samples >= warnHardlyAny || missing < warnMissing) {
		return
	}
	figures := fmt.Sprintf("The samples stand for %.2f s of processor time, but the kernel counted %.2f s", float64(e.SampledNS)/1e9, float64(f.CPUNS)/1e9)
	tick := int64(1e9) / int64(max(1, e.Settings.RateHz))
	if missing > 0 && !f.ByProcessors && 4*e.Started*tick >= missing {
		f.Warn("short-lived", fmt.Sprintf("%s: %d threads and processes came and went, and what they did since their last tick, one in %.1f ms, was not seen.", figures, e.Started, float64(tick)/1e6),
			"To see shorter ones, too, collect as root, or at a higher rate, such as --rate 9973.")
		return
	}
	f.Warn("clock", figures+".", "Trust shares more than seconds here; a lower rate may help.")
}

// lasting reports whether events of a measure have a beginning and an end of their own.
func lasting(name string) bool {
	m, err := measure.Parse(name)
	if err != nil {
		return false
	}
	switch m.Row().Way {
	case measure.BySwitches, measure.BySystemCalls, measure.ByReturns, measure.ByGoroutines:
		return true
	}
	return false
}
