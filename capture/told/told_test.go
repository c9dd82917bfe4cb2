package told_test

import (
	"strings"
	"testing"

	"entelon/capture/told"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/spans"
)

const origin = 1_700_000_000_000_000_000

// taken is a take of 5 s of one process, 77, on the host "shop".
func taken() (*profile.Builder, *profile.Facts) {
	b := profile.NewBuilder()
	b.Column(measure.Column{Name: "cpu", Unit: measure.Nanoseconds})
	b.Sample(1, b.Thread(b.Process(77), 77), 0, 1)
	return b, &profile.Facts{OriginUnixNS: origin, DurationNS: 5e9}
}

func span(name string, pid uint32, from, to int64) spans.Told {
	return spans.Told{Name: name, PID: pid, Host: "shop", Service: "engraved", Begin: origin + from, End: origin + to, Arrived: origin + to + 1e6}
}

// TestSpansJoinATake: of what arrived, that of the take's time and processes is in it; what is not is said.
func TestSpansJoinATake(t *testing.T) {
	for _, c := range []struct {
		name     string
		told     told.Received
		everyone bool
		gains    bool
		spans    int
		warns    string // code of the only warning
	}{
		{"nothing", told.Received{}, false, false, 0, ""},
		{"its own", told.Received{Spans: []spans.Told{span("draw", 77, 1e9, 2e9), span("draw", 77, 2e9, 3e9)}}, false, true, 2, ""},
		{"another program's", told.Received{Spans: []spans.Told{span("draw", 78, 1e9, 2e9)}, Others: true}, false, false, 0, ""},
		{"all programs", told.Received{Spans: []spans.Told{span("draw", 78, 1e9, 2e9)}, Others: true}, true, true, 1, ""},
		{"outside", told.Received{Spans: []spans.Told{span("draw", 77, 90e9, 91e9)}}, false, false, 0, "told-outside"},
		{"how they came", told.Received{Warnings: []profile.Warning{{Code: "told-bad", Text: "x"}}}, false, false, 0, "told-bad"},
	} {
		b, f := taken()
		if got := told.Add(c.told, b, f, "shop", c.everyone); got != c.gains {
			t.Errorf("%s: the profile has gained something: %v", c.name, got)
		}
		n := 0
		for _, k := range b.Profile().Intervals.Kind {
			if k == profile.IntervalSpan {
				n++
			}
		}
		codes := ""
		for _, w := range f.Warnings {
			codes += w.Code
			if w.Text == "" || strings.Contains(w.Text, "%!") {
				t.Errorf("%s: %+v", c.name, w)
			}
		}
		if n != c.spans || codes != c.warns {
			t.Errorf("%s: %d spans and warnings %q, want %d and %q", c.name, n, codes, c.spans, c.warns)
		}
	}
}
