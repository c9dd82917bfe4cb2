package ledger

import (
	"math"
	"slices"
	"testing"
	"time"

	"entelon/core/scales"
	"entelon/core/statistics"
)

// TestLedger: a regression is marked where it came, and where it went; a part of it that
// is left stays open; a build that is merely faster fixes nothing.
func TestLedger(t *testing.T) {
	builds := func(means ...float64) (out []statistics.Group) {
		at := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
		for _, m := range means {
			var g statistics.Group
			for i := range 6 { // takes that differ by a part in a thousand
				g.Add(m*(1+float64(i%3-1)/1000), 20_000, at)
				at = at.Add(time.Hour)
			}
			out = append(out, g)
		}
		return out
	}
	for _, x := range []struct {
		means []float64
		marks []BuildMark
	}{
		{[]float64{10, 10, 14, 14, 10}, []BuildMark{"", "", Regression, "", Fixed}},
		{[]float64{10, 14, 12, 10}, []BuildMark{"", Regression, Fixed, Fixed}}, // in two parts
		{[]float64{10, 8, 6}, []BuildMark{"", "", ""}},
		{[]float64{10, 14, 10, 8}, []BuildMark{"", Regression, Fixed, ""}}, // better than ever fixes nothing
		{[]float64{10}, []BuildMark{""}},
		{nil, nil},
	} {
		var got []BuildMark
		for i, v := range Judge(builds(x.means...), scales.ByRun, false) {
			got = append(got, v.Mark)
			if v.Low > v.Mean || v.High < v.Mean || math.Abs(v.Mean-x.means[i]) > 1e-9 {
				t.Errorf("%v: build %d is %v, %v to %v", x.means, i, v.Mean, v.Low, v.High)
			}
		}
		if !slices.Equal(got, x.marks) {
			t.Errorf("%v: %q, want %q", x.means, got, x.marks)
		}
	}
	// While a regression is open, builds are held against the last one before it, too.
	for i, v := range Judge(builds(10, 14, 14, 10, 9), scales.ByRun, false) {
		if open := i == 1 || i == 2; open != (v.Sound == 0) || !open && v.Sound != -1 || open && math.Abs(v.Since.Ratio-1.4) > 0.01 {
			t.Errorf("build %d: since %d, %+v", i, v.Sound, v.Since)
		}
	}
	for _, v := range Judge(builds(10, 14), scales.ByShare, false) {
		if v.Mark != NoBuildMark || v.Change.Verdict != "" {
			t.Errorf("shares are judged: %+v", v)
		}
	}
}

// TestLedgerOfExactTakes: one take a build is enough, and what varies by itself is no change.
func TestLedgerOfExactTakes(t *testing.T) {
	exact := func(value, varies float64) (g statistics.Group) {
		g.AddExact(value, varies, time.Time{})
		return g
	}
	got := Judge([]statistics.Group{exact(1_000_000, 10), exact(1_000_015, 10), exact(1_100_000, 10), exact(1_000_000, 10)}, scales.ByRun, true)
	for k, want := range []struct {
		verdict statistics.Verdict
		mark    BuildMark
	}{{}, {statistics.NoChange, ""}, {statistics.Slower, Regression}, {statistics.Faster, Fixed}} {
		if k > 0 && (got[k].Change.Verdict != want.verdict || got[k].Mark != want.mark) {
			t.Errorf("build %d: %s, %q", k, got[k].Change.Verdict, got[k].Mark)
		}
	}
}

// TestChange: what is counted is fewer, and what is not is less.
func TestChange(t *testing.T) {
	for want, c := range map[string]struct {
		ratio float64
		of    string
	}{"31 % more": {1.31, "CPU time"}, "4.0 % less": {0.96, "CPU time"}, "16 % fewer": {0.84, "instructions"}, "50 % less": {0.5, ""}} {
		if got := statistics.Change(c.ratio, c.of); got != want {
			t.Errorf("%v of %q: %q", c.ratio, c.of, got)
		}
	}
}
