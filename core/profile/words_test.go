package profile_test

import (
	"strings"
	"testing"

	"entelon/core/profile"
)

func TestWordsOfMeasures(t *testing.T) {
	b := profile.NewBuilder()
	for name, want := range map[string]string{
		"cpu": "CPU time", "waiting": "waiting time", "allocated:slab_get": "allocated bytes by slab_get", "function:slur.Route": "calls of slur.Route",
		"tracepoint:sched:sched_process_fork": "passes of sched:sched_process_fork", "luck": "luck",
	} {
		m := b.Column(profile.Measure{Name: b.Intern(name), Unit: b.Intern("count"), Counted: true})
		w := b.Profile().Words(m)
		if w.Label != want || w.Name != name || !w.Counted || w.Unit != "count" {
			t.Errorf("%s: %+v", name, w)
		}
		if at, err := b.Profile().MeasureNamed(name); err != nil || at != m {
			t.Errorf("%s is at %d, %v", name, at, err)
		}
	}
	if at, err := b.Profile().MeasureNamed(""); err != nil || at != 0 {
		t.Errorf("the first is at %d, %v", at, err)
	}
	if _, err := b.Profile().MeasureNamed("colour"); err == nil || !strings.Contains(err.Error(), "it has ") {
		t.Errorf("%v", err)
	}
}

func TestAmounts(t *testing.T) {
	for _, c := range []struct {
		v    int64
		unit string
		want string
	}{
		{0, "ns", "0 s"}, {999, "ns", "1.00 µs"}, {1_500_000, "ns", "1.50 ms"}, {12_300_000_000, "ns", "12.3 s"}, {123_400_000_000, "ns", "123 s"}, {-2_000_000, "ns", "-2.00 ms"},
		{17, "bytes", "17 B"}, {1536, "bytes", "1.50 KiB"}, {3 << 30, "bytes", "3.00 GiB"}, {42, "count", "42"},
	} {
		if got := profile.Amount(c.v, c.unit); got != c.want {
			t.Errorf("%d %s: %q, want %q", c.v, c.unit, got, c.want)
		}
	}
}
