package capture

import (
	"context"
	"errors"
	"fmt"
	"math"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"entelon/core/profile"
	"entelon/linux/perf"
	"entelon/linux/procfs"
)

// discard takes what a collection makes and keeps nothing of it.
type discard struct{}

func (discard) Begin(profile.Settings, profile.Machine) error { return nil }
func (discard) Append(*profile.Profile) error                 { return nil }
func (discard) Facts(profile.Facts) error                     { return nil }
func (discard) Source(profile.Source) error                   { return nil }

// spinning starts two threads' worth of work and returns its number.
func spinning(t *testing.T) int {
	t.Helper()
	if err := perf.Allowed(); err != nil {
		t.Skip(err)
	}
	cmd := exec.Command("sh", "-c", "while :; do :; done & while :; do :; done")
	cmd.SysProcAttr = &unix.SysProcAttr{Setpgid: true}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := unix.Kill(-cmd.Process.Pid, unix.SIGKILL); err != nil {
			t.Error(err)
		}
		_ = cmd.Wait() // it was killed
	})
	return cmd.Process.Pid
}

func collected(t testing.TB, set profile.Settings) *profile.Take {
	t.Helper()
	set.Unwind, set.RateHz, set.ForNS = UnwindTables, 997, 1e9
	r, err := Collect(context.Background(), Options{Settings: set}, discard{})
	if err != nil {
		t.Fatal(err)
	}
	return r.Take
}

// settled makes a take until nothing is wrong with its ticks. That some are missing is
// the sampler's fault where the host of this machine took no processor time away
// meanwhile, and an error then; where it did in three takes, it is said to be not judged.
func settled(t *testing.T, set profile.Settings, wrong func(*profile.Take) string) *profile.Take {
	t.Helper()
	for tries := 1; ; tries++ {
		before, _ := procfs.MachineTime()
		x := collected(t, set)
		after, _ := procfs.MachineTime()
		why := wrong(x)
		if why == "" {
			return x
		}
		stolen := after.Stolen - before.Stolen
		if stolen == 0 {
			t.Errorf("%s %s", set.Keep, why)
			return x
		}
		if tries == 3 {
			t.Logf("not judged, since the host took %d ms away: %s %s", stolen*10, set.Keep, why)
			return x
		}
	}
}

// The counter of cycles is played by the clock, which the kernel can drive in
// the same way, since few virtual machines have a counter.
func TestCyclesTriggerSamples(t *testing.T) {
	pid := spinning(t)
	real := perf.CyclesEvent
	defer func() { perf.CyclesEvent = real }()
	perf.CyclesEvent.Kind, perf.CyclesEvent.Config = unix.PERF_TYPE_SOFTWARE, unix.PERF_COUNT_SW_CPU_CLOCK
	if err := perf.HaveCycles(); err != nil {
		t.Skip(err) // a kernel that does not tell the running time of heirs
	}
	take := settled(t, profile.Settings{PIDs: []int{pid}}, func(x *profile.Take) string {
		if x.Settings.Event != EventCycles || len(x.Profile.Measures) != 2 {
			t.Fatalf("the event is %s, measures %d", x.Settings.Event, len(x.Profile.Measures))
		}
		cpu := float64(x.Facts.CPUNS)
		for what, got := range map[string]int64{"time": x.Profile.Total(0), "cycles, here nanoseconds": x.Profile.Total(1)} {
			if math.Abs(float64(got)-cpu) > 0.03*cpu+5e6 {
				return fmt.Sprintf("%s: the samples stand for %d, the kernel counted %d", what, got, x.Facts.CPUNS)
			}
		}
		if n := float64(x.Facts.Samples) / (cpu / 1e9); n < 800 || n > 1200 {
			return fmt.Sprintf("%.0f samples a second, want 997", n)
		}
		return ""
	})
	for i, v := range take.Profile.Samples.Values[0] {
		if v < 0 || v > 200e6 {
			t.Fatalf("sample %d stands for %d ns", i, v)
		}
	}
}

func TestWithoutCyclesTheClockTriggers(t *testing.T) {
	pid := spinning(t)
	real := perf.CyclesEvent
	defer func() { perf.CyclesEvent = real }()
	perf.CyclesEvent.Config = 1 << 40 // no processor has it
	if take := collected(t, profile.Settings{PIDs: []int{pid}}); take.Settings.Event != EventClock || len(take.Profile.Measures) != 1 {
		t.Errorf("the event is %s, measures %d", take.Settings.Event, len(take.Profile.Measures))
	}
	_, err := Collect(context.Background(), Options{Settings: profile.Settings{PIDs: []int{pid}, Event: EventCycles, RateHz: 99, Unwind: UnwindTables}}, discard{})
	if !errors.Is(err, ErrNoCycles) || Remedy(err) == "" {
		t.Errorf("cycles are asked for: %v", err)
	}
	_, err = Collect(context.Background(), Options{Settings: profile.Settings{Machine: true, Event: EventCycles, RateHz: 99, Unwind: UnwindTables}}, discard{})
	if !errors.Is(err, ErrNoCycles) {
		t.Errorf("cycles of a whole machine: %v", err)
	}
	_, err = Collect(context.Background(), Options{Settings: profile.Settings{PIDs: []int{pid}, Event: "moon", RateHz: 99, Unwind: UnwindTables}}, discard{})
	if err == nil {
		t.Error("an event that there is not was taken")
	}
}

// What is not to be kept is left out, and what is left out is said.
func TestKeep(t *testing.T) {
	pid := spinning(t)
	for keep, want := range map[string]func(f profile.Facts) bool{
		"process is sh":                            func(f profile.Facts) bool { return f.Samples > 500 && f.LeftOut == 0 },
		"process is other":                         func(f profile.Facts) bool { return f.Samples == 0 && f.LeftOut > 500 },
		"code is kernel":                           func(f profile.Facts) bool { return f.Samples < 200 },
		"not code is kernel":                       func(f profile.Facts) bool { return f.Samples > 300 },
		"process is sh and time from 0.5 s":        func(f profile.Facts) bool { return f.Samples > 200 && f.LeftOut > 200 },
		"function is no.such or process is nobody": func(f profile.Facts) bool { return f.Samples == 0 && f.LeftOut > 500 },
		"top is * and not idle":                    func(f profile.Facts) bool { return f.Samples > 500 },
	} {
		take := settled(t, profile.Settings{PIDs: []int{pid}, Keep: keep}, func(x *profile.Take) string {
			if i := slices.IndexFunc(x.Facts.Warnings, func(w profile.Warning) bool { return w.Code == "clock" }); i >= 0 {
				return x.Facts.Warnings[i].Text
			}
			if !want(x.Facts) {
				return fmt.Sprintf("%d samples, %d left out", x.Facts.Samples, x.Facts.LeftOut)
			}
			return ""
		})
		if take.Settings.Keep != strings.Replace(keep, "not code is", "code is not", 1) && keep != "top is * and not idle" || take.Facts.Samples != int64(take.Profile.Samples.Len()) {
			t.Errorf("%s is kept as %q; %d samples, the facts say %d", keep, take.Settings.Keep, take.Profile.Samples.Len(), take.Facts.Samples)
		}
		if keep == "code is kernel" {
			p := take.Profile
			for _, s := range p.Samples.Stack {
				if p.Functions[p.FunctionOf(s)].Kind != profile.KindKernel {
					t.Fatalf("%s was kept", p.FunctionName(p.FunctionOf(s)))
				}
			}
		}
	}
	_, err := Collect(context.Background(), Options{Settings: profile.Settings{PIDs: []int{pid}, Keep: "thread was here", RateHz: 99, Unwind: UnwindTables}}, discard{})
	if err == nil {
		t.Error("a keep that is no expression was taken")
	}
}
