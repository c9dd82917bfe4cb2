package profile_test

import (
	"strings"
	"testing"

	"entelon/core/measure"
	"entelon/core/profile"
)

func TestWordsOfMeasures(t *testing.T) {
	b := profile.NewBuilder()
	for name, want := range map[string]string{
		"cpu": "CPU time", "waiting": "waiting time", "allocated:slab_get": "allocated bytes by slab_get", "function:slur.Route": "calls of slur.Route",
		"tracepoint:sched:sched_process_fork": "passes of sched:sched_process_fork", "luck": "luck",
	} {
		m := b.Column(measure.Column{Name: name, Unit: measure.Count, Counted: true})
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
