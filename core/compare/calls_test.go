package compare_test

import (
	"fmt"
	"math"
	"strings"
	"testing"

	"entelon/core/compare"
	"entelon/core/match"
	"entelon/core/reading"
	"entelon/core/scales"
)

// TestCountedCalls: counts tell a function that is called more often from one that
// does more each time, which samples alone cannot, and say how often.
func TestCountedCalls(t *testing.T) {
	shop := func(height, lift, calls, lifts int) match.Run {
		return stacks("main;space 2000", "main;draw 900",
			fmt.Sprintf("main;route;lift;height %d", height), fmt.Sprintf("main;route;lift;at %d", lift), fmt.Sprintf("main;route;lift %d", lift/2),
			fmt.Sprintf("main;route;lift;height calls %d", calls), fmt.Sprintf("main;route;lift calls %d", lifts))
	}
	before := shop(400, 600, 1200, 40)
	for _, x := range []struct {
		what   string
		after  match.Run
		path   string
		why    compare.Why
		counts string // function, calls before and after, of the place itself first
		says   string
	}{
		{"a leaf that is called more often", shop(2400, 600, 7200, 40), "main;route;lift;height", compare.Oftener, "height 1200 7200", "lift calls it more often. It is called 6.0 times as often (1 200 → 7 200 calls for each run, counted)."},
		{"a leaf that does more", shop(2400, 600, 1200, 40), "main;route;lift;height", compare.OwnCode, "height 1200 1200", "It is called as often as before (1 200 → 1 200"},
		{"all alike, called more often", shop(2400, 3600, 7200, 240), "main;route;lift", compare.Oftener, "lift 40 240, height 1200 7200", "It is called 6.0 times as often (40 → 240 calls for each run, counted). height is called there 6.0 times as often"},
		{"all alike, and called as often", shop(2400, 3600, 7200, 40), "main;route;lift", compare.Heavier, "lift 40 40, height 1200 7200", "it does more per call, made by route. It is called as often as before"},
		{"all alike and less of it", shop(100, 150, 300, 40), "main;route;lift", compare.Lighter, "lift 40 40, height 1200 300", "height is called there 75 % less often"},
		{"called less often", shop(100, 150, 300, 10), "main;route;lift", compare.Seldom, "lift 40 10, height 1200 300", "It is called 75 % less often (40 → 10"},
	} {
		r := compared(t, thrice(before), thrice(x.after), compare.Options{Scale: scales.ByRun})
		s := r.Suspects()
		if len(s) != 1 || names(r, s[0]) != x.path || s[0].Why != x.why || math.Abs(s[0].Share-1) > 0.02 {
			t.Errorf("%s: %+v", x.what, s)
			continue
		}
		var counts []string
		for _, c := range s[0].Counts {
			counts = append(counts, fmt.Sprint(r.Name(c.Function), " ", c.Calls[0], " ", c.Calls[1]))
		}
		if got := strings.Join(counts, ", "); got != x.counts {
			t.Errorf("%s: counts are %s, want %s", x.what, got, x.counts)
		}
		said := ""
		for _, p := range reading.Comparison(r, s, reading.Sides{Baseline: "a", Candidate: "b", Measure: "CPU time"}) {
			said += p.Text
		}
		if !strings.Contains(said, x.says) {
			t.Errorf("%s: %s", x.what, said)
		}
	}
}

// TestCountsOfOneSideAlone: what was not counted on both sides says nothing, and a
// function that is called on one side alone has no factor.
func TestCountsOfOneSideAlone(t *testing.T) {
	base := []string{"main;space 2000", "main;route;height 400"}
	with := func(lines ...string) match.Run { return stacks(append(append([]string(nil), base...), lines...)...) }
	more := []string{"main;space 2000", "main;route;height 2400"}
	r := compared(t, thrice(with("main;route;height calls 9")), thrice(stacks(more...)), compare.Options{Scale: scales.ByRun})
	if s := r.Suspects(); len(s) != 1 || len(s[0].Counts) != 0 {
		t.Errorf("counted on one side: %+v", s)
	}
	r = compared(t, thrice(with("main;route;blot calls 0")), thrice(with("main;route;blot 1200", "main;route;blot calls 60")), compare.Options{Scale: scales.ByRun})
	s := r.Suspects()
	if len(s) != 1 || len(s[0].Counts) != 1 || s[0].Counts[0].Ratio() != 0 || s[0].Counts[0].Calls != [2]float64{0, 60} {
		t.Fatalf("called on one side: %+v", s)
	}
	said := ""
	for _, p := range reading.Comparison(r, s, reading.Sides{Baseline: "a", Candidate: "b", Measure: "CPU time"}) {
		said += p.Text
	}
	if !strings.Contains(said, "It is called now, and was not before (0 → 60 calls for each run, counted).") {
		t.Error(said)
	}
}

// TestSplit: both parts of a difference are the difference, to the last unit.
func TestSplit(t *testing.T) {
	for _, c := range []struct {
		cost, calls [2]float64
		by, each    float64
		ok          bool
	}{
		{[2]float64{1000, 2000}, [2]float64{10, 20}, 1000, 0, true},
		{[2]float64{1000, 1500}, [2]float64{10, 10}, 0, 500, true},
		{[2]float64{1000, 900}, [2]float64{3, 7}, 1333, -1433, true},
		{[2]float64{1000, 0}, [2]float64{3, 0}, -1000, 0, true},
		{[2]float64{0, 700}, [2]float64{0, 7}, 0, 0, false},
	} {
		by, each, ok := compare.Split(c.cost, c.calls)
		if by != c.by || each != c.each || ok != c.ok || ok && by+each != c.cost[1]-c.cost[0] {
			t.Errorf("%v at %v calls: %v and %v, %v", c.cost, c.calls, by, each, ok)
		}
	}
}
