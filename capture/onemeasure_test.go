package capture

import (
	"context"
	"testing"
	"time"

	"entelon/core/measure"
	"entelon/core/profile"
)

// TestAMeasureMore: a measure that the kernel can count takes a row of the table and
// nothing else, and is collected, named and in its unit.
func TestAMeasureMore(t *testing.T) {
	before := measure.Kinds
	defer func() { measure.Kinds = before }()
	row := func(word, event string, way measure.Way) measure.Kind {
		return measure.Kind{Word: word, Title: word, Means: word + ".", Cost: "little", Note: word, Way: way, Event: event,
			Columns: []measure.ColumnRow{{Column: measure.Column{Name: word, Label: "made-up " + word, Unit: measure.Count, Counted: true}}}}
	}
	measure.Kinds = append(before[:len(before):len(before)], row("touches", "minor-faults", measure.BySoftware), row("births", "sched:sched_process_fork", measure.ByTracepoint))
	set := profile.Settings{Command: []string{"sh", "-c", "for i in 1 2 3 4 5 6 7 8 9; do ls / > /dev/null; done"}, RateHz: 99, Measures: []string{"cpu", "touches", "births"}, ForNS: int64(20 * time.Second)}
	r, err := Collect(context.Background(), Options{Settings: set}, discard{})
	if err != nil {
		t.Fatal(err)
	}
	p := r.Take.Profile
	for name, least := range map[string]int64{"touches": 200, "births": 9} {
		m, err := p.MeasureNamed(name)
		if err != nil {
			t.Fatal(err)
		}
		w := p.Words(m)
		if w.Label != "made-up "+name || w.Unit != measure.Count || !w.Counted || w.Kind != name || p.Total(m) < least {
			t.Errorf("%+v, %d of them", w, p.Total(m))
		}
	}
}
