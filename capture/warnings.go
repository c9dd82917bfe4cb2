package capture

import (
	"fmt"
	"math"
	"os"
	"path"
	"strings"

	"entelon/capture/launch"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/linux/bpf"
	"entelon/resolve"
	"entelon/runtimes/java"
	"entelon/runtimes/node"
	"entelon/runtimes/python"
)

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

// warn says what the take's reader must know about the measurement.
func (s *session) warn(unreadable []string) {
	f := &s.facts
	if !s.kernel {
		f.Warn("no-kernel", "Time inside the kernel is missing: this user may not sample it.", "Run as root, or ask for: sysctl kernel.perf_event_paranoid=1")
	}
	if s.resolver.KernelErr != nil {
		f.Warn("kernel-names", "Functions of the kernel have no names: "+s.resolver.KernelErr.Error()+".", "Ask for: sysctl kernel.kptr_restrict=0, and collect as root.")
	}
	if f.Lost > 0 {
		f.Warn("lost", fmt.Sprintf("The kernel lost %d records because a ring was full.", f.Lost), "Collect at a lower rate, or on a machine that is less busy.")
	}
	if f.Throttled > 0 {
		f.Warn("throttled", fmt.Sprintf("The kernel paused sampling %d times to protect the machine.", f.Throttled), "Collect at a lower rate.")
	}
	s.warnClock()
	if f.Samples == 0 && f.LeftOut > 0 {
		f.Warn("no-samples", fmt.Sprintf("None of the %d samples was to be kept: %s.", f.LeftOut, s.o.Settings.Keep), "Take it again with another --keep.")
		return
	}
	if f.Samples == 0 {
		f.Warn("no-samples", fmt.Sprintf("There are no samples; the program used %.3f s of processor time.", float64(f.CPUNS)/1e9), "Sample while it works, or for longer.")
		return
	}
	sampled := s.columnOf(measure.CPU) >= 0 // the other measures are counts
	if sampled && f.Samples < warnHardlyAny {
		f.Warn("few-samples", fmt.Sprintf("The number of samples is %d, too few to say where the time goes.", f.Samples), "Sample while it works, or for longer.")
		return
	}
	if sampled && f.Samples < warnFewSamples {
		share := 100 * 1.96 * math.Sqrt(0.1*0.9/float64(f.Samples))
		f.Warn("few-samples", fmt.Sprintf("There are only %d samples: a function with 10 %% of the time is known to within %.1f points.", f.Samples, share),
			fmt.Sprintf("Collect about %.0f times as long, or at a higher rate.", math.Ceil(warnFewSamples*2/float64(f.Samples))))
	}
	s.warnCut()
	s.warnRuntimes()
	if share := float64(f.Unnamed) / float64(f.Samples); share > warnUnnamedShare {
		module, n := resolve.Most(s.resolver.Unnamed)
		where, remedy := path.Base(module), "Install its debug symbols, or build it without stripping."
		if module == "//anon" {
			where, remedy = "code made at run time", "Start it with the option of its runtime that writes a map of code to /tmp/perf-PID.map."
		}
		f.Warn("unnamed", fmt.Sprintf("%.1f %% of the samples have no function name, %d of them in %s.", 100*share, n, where), remedy)
	} else {
		s.warnDebugFiles()
	}
	if c := s.resolver.Modules.Cache(); c != nil && c.Failed() != nil {
		f.Warn("cache", "What was found out could not be kept for the next take: "+c.Failed().Error()+".", "Make room, or choose another folder with --symbol-cache.")
	}
	for i, why := range unreadable {
		if i == 3 {
			break
		}
		f.Warn("unreadable", "A file could not be read for names: "+why+".", "Take it again while the file is in place.")
	}
	if f.ExitCode != nil && *f.ExitCode != 0 {
		f.Warn("failed", fmt.Sprintf("The command ended with exit code %d.", *f.ExitCode), "Make sure that it did the work that you want to measure.")
	}
}

// warnCut says why stacks are cut off, where many are, and what helps against
// the most frequent reason.
func (s *session) warnCut() {
	f, set := &s.facts, &s.o.Settings
	from := warnCutShare
	if set.CutShare > 0 {
		from = set.CutShare
	}
	share := 1 - f.CompleteShare()
	if share < from || len(f.CutOff) == 0 {
		return
	}
	var why []string
	for _, c := range f.CutOff {
		why = append(why, fmt.Sprintf("%s (%d)", c.Words(), c.Stacks))
	}
	text := fmt.Sprintf("%.1f %% of the stacks are cut off: %s.", 100*share, strings.Join(why, ", "))
	remedy := "Read self costs only; they are not affected."
	switch f.CutOff[0].Mark() {
	case profile.CutDeeper:
		remedy = "Nothing deeper can be copied; build the recursion with -fno-omit-frame-pointer, or read self costs only."
		if set.StackBytes < MaxStackBytes {
			remedy = fmt.Sprintf("Copy more of each stack: --stack %dk.", min(MaxStackBytes, 2*set.StackBytes)>>10)
		}
	case profile.CutOtherStack:
		if s.other == nil && set.Unwind == UnwindTables {
			remedy = "Collect as root, so that stacks which a thread left behind are read too"
			if s.otherErr != nil {
				remedy += " (now: " + s.otherErr.Error() + ")"
			}
			remedy += "."
		}
	case profile.CutNoTable:
		remedy = "Build that code with -fasynchronous-unwind-tables or -fno-omit-frame-pointer."
		if module, _ := resolve.Most(s.resolver.NoTable); set.Unwind == UnwindFramePointers {
			remedy = "Take it with --unwind tables, or build with -fno-omit-frame-pointer."
		} else if module != "" {
			remedy = fmt.Sprintf("Build %s with -fasynchronous-unwind-tables or -fno-omit-frame-pointer.", path.Base(module))
		}
	}
	f.Warn("cut-off", text, remedy)
}

// warnMade says why code that was made at run time has no names, and what is
// wrong with the maps that give them.
func (s *session) warnMade() {
	f, ps := &s.facts, s.resolver.Processes
	remedy := "Start it with the option of its runtime that writes a map of code to /tmp/perf-PID.map."
	switch {
	case ps.Met[java.RuntimeName]:
		remedy = "Collect as root or as the same user, from a Java machine of version 17 or later."
	case ps.Met[node.Name]:
		remedy = "Start it with: node " + strings.Join(node.Named, " ")
	}
	for _, p := range ps.Known {
		j := p.Made
		if j == nil {
			continue
		}
		if j.Failed != nil {
			f.Warn("no-map", fmt.Sprintf("Functions that process %d made at run time have no names: %v.", p.PID, j.Failed), remedy)
		}
		if j.Codes.Fault != nil {
			f.Warn("map", fmt.Sprintf("Some names of code that process %d made at run time are missing: in its map, %v.", p.PID, j.Codes.Fault), "Names that are shown are not affected.")
		}
		for _, err := range j.Faults {
			f.Warn("source-map", "Places in a script are those of its generated code: "+err.Error()+".", "Build it again with its source map beside it.")
			break
		}
	}
	if ps.Met[java.RuntimeName] && !s.preservesFramePointers() {
		f.Warn("java-frames", "Stacks of Java code are cut off: the machine was started without frame pointers in compiled methods.", "Start it with: java -XX:+PreserveFramePointer")
	}
}

// preservesFramePointers reports whether a Java machine was told to keep them.
func (s *session) preservesFramePointers() bool {
	const option = "+PreserveFramePointer"
	if s.command != nil && strings.Contains(s.command.Set, option) || strings.Contains(strings.Join(s.o.Settings.Command, " "), option) {
		return true
	}
	env, err := launch.Environment(s.o.Launching())
	if err != nil {
		env = s.o.Settings.Env // its user has gone since it was launched
	}
	for _, kv := range env {
		if strings.Contains(kv, option) {
			return true
		}
	}
	return s.command == nil && s.attachedHas(option)
}

// attachedHas reports whether a process that was attached to has a word in its
// environment.
func (s *session) attachedHas(word string) bool {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/environ", s.o.Settings.PID))
	return err == nil && strings.Contains(string(b), word)
}

// warnRuntimes says where functions of interpreted programs are missing.
func (s *session) warnRuntimes() {
	f, ps := &s.facts, s.resolver.Processes
	s.warnMade()
	if !ps.Met[python.Name] {
		return
	}
	switch {
	case ps.Unread != nil:
		f.Warn("interpreter", "Functions written in Python are not shown, only the interpreter's own: "+ps.Unread.Error()+".", "Run it with a CPython from 3.11 on whose symbols were not stripped.")
	case s.o.Settings.Unwind == UnwindFramePointers:
		f.Warn("interpreter", "Functions written in Python are not shown, only the interpreter's own: frame pointers do not lead to them.", "Take it with --unwind tables.")
	case ps.Python == nil:
		why := "this user may not read them at the moment of a sample"
		if s.otherErr != nil {
			why += " (" + s.otherErr.Error() + ")"
		}
		f.Warn("interpreter", "Functions written in Python are not shown, only the interpreter's own: "+why+".", "Collect as root.")
	}
	if share := float64(f.Unlabelled) / float64(max(1, f.Labelled+f.Unlabelled)); share > warnNoLabels {
		f.Warn("labels-unread", fmt.Sprintf("Of %.1f %% of the samples with labels not all labels could be read: the program gives more than %d to its work, or they were not in memory.", 100*share, bpf.MaxLabels),
			"Do not take what a scope by labels leaves out for what has none.")
	}
	if share := float64(f.Torn) / float64(max(1, f.Interpreted+f.Torn)); share > warnTornShare {
		f.Warn("torn", fmt.Sprintf("In %.1f %% of the stacks the interpreter was just changing its frames; those show its machine code only.", 100*share), "Read shares of functions with that uncertainty.")
	}
}

// warnClock compares the samples with the processor time that the kernel
// counted for the same threads. The clock of each thread begins anew with the
// thread, so one that ends between two ticks loses the time since the last;
// where many come and go, that is most of what is missing. A process loses up to
// two ticks: as a copy of its parent, and as what it becomes. A host that takes
// time away makes what is missing larger still, so half of it is enough to say so.
func (s *session) warnClock() {
	f := &s.facts
	column := s.columnOf(measure.CPU)
	if column < 0 {
		return
	}
	sampled := s.builder.Profile().Total(column)
	if s.chosen != nil {
		if s.chosen.unseen {
			return // what was left out was not even counted
		}
		sampled += s.chosen.clock
	}
	missing := f.CPUNS - sampled
	noise := 3 / math.Sqrt(float64(max(1, f.Samples)))
	if math.Abs(float64(missing))/float64(max(1, f.CPUNS)) <= warnRateShare+noise && (f.Samples >= warnHardlyAny || missing < warnMissing) {
		return
	}
	figures := fmt.Sprintf("The samples stand for %.2f s of processor time, but the kernel counted %.2f s", float64(sampled)/1e9, float64(f.CPUNS)/1e9)
	tick := int64(1e9) / int64(s.o.Settings.RateHz)
	if started := s.resolver.Processes.Started; missing > 0 && 4*started*tick >= missing {
		f.Warn("short-lived", fmt.Sprintf("%s: %d threads and processes came and went, and what they did since their last tick, one in %.1f ms, was not seen.", figures, started, float64(tick)/1e6),
			"Collect at a higher rate, such as --rate 9973, so that shorter ones are seen.")
		return
	}
	f.Warn("clock", figures+".", "Trust shares more than seconds here; a lower rate may help.")
}
