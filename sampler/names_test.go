package sampler

import "testing"

func TestProgramNames(t *testing.T) {
	for path, want := range map[string]string{
		"/srv/bin/engraved-3.5.0": "engraved", "engraved": "engraved", "/usr/bin/python3.11": "python", "inkraster_v1.3": "inkraster",
		"shares-stripped": "shares-stripped", "a.out": "a.out", "7.5": "7.5", "libink.so.6": "libink.so.6", "cc1plus": "cc1plus", "x-1": "x-1",
	} {
		if got := programName(path); got != want {
			t.Errorf("%s: %s, want %s", path, got, want)
		}
	}
}

func TestParseMeasures(t *testing.T) {
	for text, want := range map[string]Measure{
		"cpu": {Kind: "cpu"}, "allocations": {Kind: "allocations"}, "allocations:score_alloc": {"allocations", "score_alloc", 1}, "allocations:slab::get@3": {"allocations", "slab::get", 3},
		"tracepoint:sched:sched_process_fork": {"tracepoint", "sched:sched_process_fork", 0}, "function:slur.(*Skyline).Height": {"function", "slur.(*Skyline).Height", 0},
	} {
		got, err := ParseMeasure(text)
		if err != nil || got != want {
			t.Errorf("%q: %+v, %v", text, got, err)
		}
		again, err := ParseMeasure(got.String())
		if err != nil || again != got {
			t.Errorf("%q is written as %q", text, got.String())
		}
	}
	for _, text := range []string{"", "luck", "cpu:x", "allocations:", "allocations:f@0", "allocations:f@7", "allocations:f@x", "tracepoint:", "tracepoint:sched", "tracepoint:../x:y", "function:"} {
		if m, err := ParseMeasure(text); err == nil {
			t.Errorf("%q was taken for %+v", text, m)
		}
	}
	if ms, err := ParseMeasures([]string{"waiting", "cpu", "waiting"}); err != nil || len(ms) != 2 || ms[0].Kind != MeasureWaiting {
		t.Errorf("%v, %v", ms, err)
	}
}
