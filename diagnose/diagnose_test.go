package diagnose

import (
	"errors"
	"strings"
	"testing"
	"time"

	"entelon/core/profile"
)

// sound is a take of which nothing is to be said.
func sound() (profile.Facts, Evidence) {
	f := profile.Facts{Samples: 5000, UserStacks: 5000, Complete: 5000, CPUNS: 5e9, DurationNS: 5e9, EndedBy: "exit"}
	e := Evidence{Settings: profile.Settings{RateHz: 997, StackBytes: 4096}, CPU: true, Kernel: true, Launched: true, Processes: 1, SampledNS: 5e9, InStacks: 5000, MaxStack: 62 << 10,
		OtherStacks: true, Met: map[string]bool{}, JavaFrames: true, PythonRead: true, Machine: [2]Time{{Total: 1000}, {Total: 2000, Idle: 400}}, TickNS: 1e7}
	return f, e
}

// TestWarnings: each thing that is wrong is said once, by its code, with a remedy;
// nothing is said of a sound take.
func TestWarnings(t *testing.T) {
	bad := errors.New("it broke")
	one := 1
	for code, change := range map[string]func(*profile.Facts, *Evidence){
		"":             func(*profile.Facts, *Evidence) {},
		"no-kernel":    func(_ *profile.Facts, e *Evidence) { e.Kernel = false },
		"kernel-names": func(_ *profile.Facts, e *Evidence) { e.KernelNames, e.KernelRemedy = bad, "Ask for them." },
		"lost":         func(f *profile.Facts, _ *Evidence) { f.Lost = 3 },
		"throttled":    func(f *profile.Facts, _ *Evidence) { f.Throttled = 3 },
		"clock":        func(_ *profile.Facts, e *Evidence) { e.SampledNS = 4e9 },
		"short-lived":  func(_ *profile.Facts, e *Evidence) { e.SampledNS, e.Started = 4e9, 500 },
		"no-samples":   func(f *profile.Facts, e *Evidence) { f.Samples, f.CPUNS, e.SampledNS, e.Processes = 0, 0, 0, 0 },
		"few-samples":  func(f *profile.Facts, _ *Evidence) { f.Samples = 500 },
		"cut-off": func(f *profile.Facts, _ *Evidence) {
			f.Complete, f.CutOff = 4500, []profile.Cut{profile.CutBy(profile.CutDeeper, 500)}
		},
		"unnamed": func(f *profile.Facts, e *Evidence) {
			f.Unnamed, e.Unnamed = 1000, map[string]int64{"/x/libink.so": 1000}
		},
		"debug-files":   func(_ *profile.Facts, e *Evidence) { e.ExportsOnly = map[string]int64{"libink.so": 1000} },
		"cache":         func(_ *profile.Facts, e *Evidence) { e.Cache = bad },
		"unreadable":    func(_ *profile.Facts, e *Evidence) { e.Unreadable = []string{"libink.so: gone"} },
		"failed":        func(f *profile.Facts, _ *Evidence) { f.ExitCode = &one },
		"no-map":        func(_ *profile.Facts, e *Evidence) { e.Maps = []Map{{PID: 7, Missing: bad}} },
		"map":           func(_ *profile.Facts, e *Evidence) { e.Maps = []Map{{PID: 7, Fault: bad}} },
		"source-map":    func(_ *profile.Facts, e *Evidence) { e.Maps = []Map{{PID: 7, Source: bad}} },
		"java-frames":   func(_ *profile.Facts, e *Evidence) { e.Met["Java"], e.JavaFrames = true, false },
		"interpreter":   func(_ *profile.Facts, e *Evidence) { e.Met["CPython"], e.PythonRead = true, false },
		"labels-unread": func(f *profile.Facts, e *Evidence) { e.Met["CPython"], f.Unlabelled = true, 50 },
		"torn":          func(f *profile.Facts, e *Evidence) { e.Met["CPython"], f.Interpreted, f.Torn = true, 900, 100 },
		"no-file":       func(_ *profile.Facts, e *Evidence) { e.Absent = []string{"full.score"} },
		"unoptimised":   func(_ *profile.Facts, e *Evidence) { e.Unoptimised = "-O0" },
		"no-wake":       func(_ *profile.Facts, e *Evidence) { e.NoWake = bad },
		"ended-at-once": func(f *profile.Facts, _ *Evidence) { f.DurationNS = 5e7 },
		"idle":          func(f *profile.Facts, _ *Evidence) { f.DurationNS = 50e9 },
		// It had a third of its processor, and the host more than that: it did not idle.
		"host":    func(f *profile.Facts, e *Evidence) { f.DurationNS, e.Machine[1].Stolen = 14e9, 500 },
		"busy":    func(_ *profile.Facts, e *Evidence) { e.Machine[1].Idle = 0 },
		"sampled": func(_ *profile.Facts, e *Evidence) { e.Sampler = "quill (process 7)" },
		"partial": func(f *profile.Facts, _ *Evidence) {
			f.Lost, f.Counted = 9, []profile.Counting{{Measure: "faults", Events: 91, Singly: 91, Lost: 9}}
		},
		"own":       func(f *profile.Facts, _ *Evidence) { f.OwnNS = f.CPUNS / 3 },
		"set-user":  func(f *profile.Facts, e *Evidence) { f.Samples, e.CPU, e.SetUser = 0, false, true },
		"no-work":   func(_ *profile.Facts, e *Evidence) { e.Settings.WorkFrom = "did (x)" },
		"hot":       func(_ *profile.Facts, e *Evidence) { e.Hot, e.HotTimes = 1, 9 },
		"held-back": func(_ *profile.Facts, e *Evidence) { e.Held = time.Second },
	} {
		f, e := sound()
		change(&f, &e)
		Warn(&f, &e)
		var codes []string
		for _, w := range f.Warnings {
			codes = append(codes, w.Code)
			if w.Remedy == "" || !strings.HasSuffix(w.Text, ".") {
				t.Errorf("%s: %q, %q", w.Code, w.Text, w.Remedy)
			}
		}
		if got := strings.Join(codes, " "); got != code {
			t.Errorf("%q is said where %q is wrong", got, code)
		}
	}
}

// TestRemediesOfCutOffStacks: the remedy fits the most frequent reason.
func TestRemediesOfCutOffStacks(t *testing.T) {
	for _, c := range []struct {
		reason profile.Mark
		change func(*Evidence)
		remedy string
	}{
		{profile.CutDeeper, func(e *Evidence) { e.OtherStacks = false }, "--stack 8k"},
		{profile.CutDeeper, func(*Evidence) {}, "Nothing deeper"},
		{profile.CutNoTable, func(e *Evidence) { e.NoTable = map[string]int64{"/memfd:code (deleted)": 7} }, "made while the program ran"},
		{profile.CutDeeper, func(e *Evidence) { e.Settings.StackBytes = e.MaxStack }, "Nothing deeper"},
		{profile.CutOtherStack, func(e *Evidence) { e.OtherStacks = false }, "as root"},
		{profile.CutNoTable, func(e *Evidence) { e.ByFrames = true }, "--unwind tables"},
		{profile.CutNoTable, func(*Evidence) {}, "Build libblot.so with -fasynchronous-unwind-tables"},
		{profile.CutCircle, func(*Evidence) {}, "self costs"},
	} {
		f, e := sound()
		e.NoTable = map[string]int64{"/srv/libblot.so": 7}
		f.Complete, f.CutOff = 4750, []profile.Cut{profile.CutBy(c.reason, 250)}
		c.change(&e)
		Warn(&f, &e)
		if len(f.Warnings) != 1 || !strings.Contains(f.Warnings[0].Remedy, c.remedy) || !strings.Contains(f.Warnings[0].Text, profile.CutBy(c.reason, 250).Words()+" (250)") {
			t.Errorf("%s: %+v, want %q", c.reason.Words(), f.Warnings, c.remedy)
		}
		f.Warnings, e.Settings.CutShare = nil, 0.06
		if Warn(&f, &e); len(f.Warnings) != 0 {
			t.Errorf("%s: below the share that was set: %+v", c.reason.Words(), f.Warnings)
		}
	}
}
