package compare_test

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"testing"

	"entelon/core/calltree"
	"entelon/core/compare"
	"entelon/core/invent"
	"entelon/core/match"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scales"
	"entelon/core/scope"
	"entelon/core/statistics"
)

func runOf(p *profile.Profile) match.Run {
	tr := calltree.New(p)
	c := tr.Cost(0, scope.Scope{})
	return match.Run{Tree: tr, Cost: c, Functions: calltree.Functions(tr, c), DurationNS: 1e9, CPUNS: p.Total(0), Work: 1, Calls: compare.CallsOf(tr, scope.Scope{})}
}

// runs makes takes of a shop, one after the other.
func runs(x *invent.Season, s invent.Shop, n int) []match.Run {
	out := make([]match.Run, n)
	for i := range out {
		out[i] = runOf(x.Take(s))
	}
	return out
}

func shop(mean map[string]float64) invent.Shop {
	var s invent.Shop
	for _, name := range slices.Sorted(maps.Keys(mean)) {
		s.Functions = append(s.Functions, invent.ShopFunction{Name: name, Mean: mean[name]})
	}
	return s
}

// noisy is a shop with some spread between takes.
func noisy(s invent.Shop, common, own float64) invent.Shop {
	s.Common, s.Own = common, own
	return s
}

func row(t *testing.T, r *compare.Result, name string) compare.Row {
	t.Helper()
	for _, x := range r.Rows {
		if x.Name == name {
			return x
		}
	}
	t.Fatalf("there is no %s", name)
	return compare.Row{}
}

func compared(t *testing.T, a, b []match.Run, o compare.Options) *compare.Result {
	t.Helper()
	r, err := compare.Compare(a, b, o)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func TestAgainstItself(t *testing.T) {
	p := invent.Profile(1, invent.Small)
	for _, s := range scales.All {
		r := compared(t, []match.Run{runOf(p)}, []match.Run{runOf(p)}, compare.Options{Scale: s.Scale})
		sum := 0.0
		for _, x := range r.Rows {
			if x.State != compare.Same || x.Self.Difference != 0 || x.Total.Difference != 0 || x.Match != nil {
				t.Errorf("%s: %s is %s by %v, %+v", s.Scale, x.Name, x.State, x.Self.Difference, x.Match)
			}
			sum += x.Self.Baseline
		}
		if math.Abs(sum-r.Whole.Baseline) > 1e-9*sum || r.Whole.Ratio != 1 || !r.Single {
			t.Errorf("%s: self costs sum to %v, the whole is %+v", s.Scale, sum, r.Whole)
		}
	}
}

// TestUnchangedPrograms compares the same program a thousand times, with noise as
// takes have it: false alarms are no more than is stated, and intervals cover.
func TestUnchangedPrograms(t *testing.T) {
	const times = 1000
	bursts, far := noisy(invent.Street(40, 400), 0.05, 0.03), noisy(invent.Street(40, 400), 0.03, 0.02)
	bursts.Burst, far.Far = 4, 0.1
	for _, x := range []struct {
		name    string
		shop    invent.Shop
		a, b    int
		covered bool // the interval is from the spread of the takes
	}{
		{"five takes a side", noisy(invent.Street(40, 400), 0.03, 0.02), 5, 5, true},
		{"three takes a side, in bursts", bursts, 3, 3, true},
		{"three and one", noisy(invent.Street(40, 400), 0.03, 0.02), 3, 1, true},
		{"far off at times", far, 5, 5, true},
		{"one take a side", noisy(invent.Street(40, 400), 0.03, 0.02), 1, 1, false},
	} {
		t.Run(x.name, func(t *testing.T) {
			t.Parallel()
			r := invent.NewSeason(11)
			whole, any, cover, coverFn, fns := 0, 0, 0, 0, 0
			for range times {
				c := compared(t, runs(r, x.shop, x.a), runs(r, x.shop, x.b), compare.Options{Scale: scales.ByRun})
				if c.Whole.Verdict == statistics.Slower || c.Whole.Verdict == statistics.Faster {
					whole++
				}
				if c.Whole.RatioLow <= 1 && c.Whole.RatioHigh >= 1 {
					cover++
				}
				alarm := false
				for _, row := range c.Rows {
					alarm = alarm || row.Certain
					if row.SelfSamples[0]+row.SelfSamples[1] >= 40 {
						fns++
						if row.Self.Low <= 0 && row.Self.High >= 0 {
							coverFn++
						}
					}
				}
				for _, s := range c.Suspects() {
					alarm = alarm || s.Verdict == statistics.Slower || s.Verdict == statistics.Faster
				}
				if alarm {
					any++
				}
			}
			// Where nothing changed, every comparison with an alarm is wrong as a
			// whole, so the rate of false discoveries is that of such comparisons.
			limit := 0.05*times + 3*math.Sqrt(0.05*0.95*times)
			if float64(whole) > limit || float64(any) > limit {
				t.Errorf("of %d unchanged programs %d are called changed, and %d have a function that is", times, whole, any)
			}
			if got := float64(cover) / times; x.covered && got < 0.95-3*math.Sqrt(0.05*0.95/times) {
				t.Errorf("the 95 %% interval of the whole covers %.1f %%", 100*got)
			}
			if got := float64(coverFn) / float64(fns); x.covered && got < 0.93 {
				t.Errorf("the 95 %% intervals of functions cover %.1f %%", 100*got)
			}
		})
	}
}

// TestKnownSlowdowns: a slowdown is found as often as the smallest change that
// would be seen says, and its size is within the interval as often as stated.
func TestKnownSlowdowns(t *testing.T) {
	const times = 300
	for _, slower := range []float64{1.02, 1.05, 1.10} {
		t.Run(fmt.Sprint(slower), func(t *testing.T) {
			t.Parallel()
			r := invent.NewSeason(uint64(slower * 100))
			s := noisy(shop(map[string]float64{"space": 4000, "beam": 2000, "route": 2000, "draw": 2000}), 0.02, 0)
			after := s.With("", slower)
			seen, cover, said := 0, 0, 0.0
			for range times {
				c := compared(t, runs(r, s, 4), runs(r, after, 4), compare.Options{Scale: scales.ByRun})
				if c.Whole.Verdict == statistics.Slower {
					seen++
				}
				if c.Whole.RatioLow <= slower && slower <= c.Whole.RatioHigh {
					cover++
				}
				said += c.Whole.Seen / times
			}
			// A change as large as the one that is said to be seen is seen 4 times in 5;
			// the power of others follows from the distance, about normally.
			z := (slower - 1) / said * (1.96 + 0.84)
			want := 0.5 * math.Erfc(-(z-1.96)/math.Sqrt2)
			if got := float64(seen) / times; math.Abs(got-want) > 0.12 {
				t.Errorf("a slowdown of %.0f %% is found in %.0f %%, where a change of %.1f %% is said to be seen: expected about %.0f %%", 100*(slower-1), 100*got, 100*said, 100*want)
			}
			if got := float64(cover) / times; got < 0.95-3*math.Sqrt(0.05*0.95/times) {
				t.Errorf("the interval covers %.1f %%", 100*got)
			}
		})
	}
}

// TestFindsTheFunction: one that got slower is found, and few others with it.
func TestFindsTheFunction(t *testing.T) {
	r := invent.NewSeason(3)
	s := noisy(invent.Street(40, 400), 0.02, 0.02)
	found, wrong := 0, 0
	for range 100 {
		c := compared(t, runs(r, s, 4), runs(r, s.With("fn02", 1.6), 4), compare.Options{Scale: scales.ByRun})
		for _, x := range c.Rows {
			switch {
			case !x.Certain:
			case x.Name == "fn02":
				found++
				if x.State != compare.Changed || x.Self.Verdict != statistics.Slower || x.Self.RatioLow > 1.75 || x.Self.RatioHigh < 1.45 {
					t.Errorf("%+v", x)
				}
			default:
				wrong++
			}
		}
		if c.Rows[0].Name != "fn02" && row(t, c, "fn02").Certain {
			t.Errorf("%s stands before it", c.Rows[0].Name)
		}
	}
	if found < 95 || wrong > 25 {
		t.Errorf("found %d of 100, and %d that did not change", found, wrong)
	}
}

// With as many takes as are said to be needed, a change worth knowing is seen.
func TestTooFewTakes(t *testing.T) {
	r := invent.NewSeason(8)
	s := noisy(shop(map[string]float64{"space": 30000, "beam": 30000}), 0.04, 0)
	c := compared(t, runs(r, s, 3), runs(r, s, 3), compare.Options{Scale: scales.ByRun})
	for c.Whole.Verdict == statistics.Slower || c.Whole.Verdict == statistics.Faster {
		c = compared(t, runs(r, s, 3), runs(r, s, 3), compare.Options{Scale: scales.ByRun})
	}
	if c.Whole.Verdict != statistics.TooFew || c.Whole.Need <= 3 || c.Whole.Need > 60 {
		t.Fatalf("%+v", c.Whole)
	}
	more := compared(t, runs(r, s, 24), runs(r, s, 24), compare.Options{Scale: scales.ByRun})
	if more.Whole.Verdict == statistics.TooFew || more.Whole.Seen > statistics.DefaultWorth {
		t.Errorf("24 takes a side are too few: %+v", more.Whole)
	}
}

// TestRareFunctionsAreNotCertain: one that was met a few times on one side only
// is new, but chance may have made it so.
func TestRareFunctionsAreNotCertain(t *testing.T) {
	r := invent.NewSeason(5)
	s := shop(map[string]float64{"space": 5000})
	after := shop(map[string]float64{"space": 5000, "read": 3})
	x := row(t, compared(t, runs(r, s, 1), runs(r, after, 1), compare.Options{}), "read")
	if x.State != compare.New || x.Certain || x.SelfSamples[1] == 0 {
		t.Errorf("with %d samples it is %s, certain %v", x.SelfSamples[1], x.State, x.Certain)
	}
	after = shop(map[string]float64{"space": 5000, "read": 500})
	if x := row(t, compared(t, runs(r, s, 1), runs(r, after, 1), compare.Options{}), "read"); !x.Certain || x.Self.Ratio != 0 || x.Self.Verdict != statistics.Slower {
		t.Errorf("a new function with a tenth of all is %+v", x)
	}
}

func TestRemarks(t *testing.T) {
	r := invent.NewSeason(2)
	s := noisy(shop(map[string]float64{"space": 20000}), 0.005, 0)
	steady := runs(r, s, 7)
	off := append(runs(r, s, 6), runs(r, shop(map[string]float64{"space": 30000}), 1)...)
	c := compared(t, steady, off, compare.Options{Scale: scales.ByRun})
	if len(c.Remarks) != 1 || c.Remarks[0].Code != "far-off" || c.Remarks[0].Side != 1 || c.Remarks[0].Run != 6 {
		t.Errorf("%+v", c.Remarks)
	}
	partial := runs(r, s, 3)
	partial[0].Lost, partial[2].Lost = 40, 2
	c = compared(t, partial, steady, compare.Options{Scale: scales.ByRun})
	if len(c.Remarks) == 0 || c.Remarks[0].Code != "partial" || c.Remarks[0].Side != 0 || !strings.Contains(c.Remarks[0].Text, "42 events of 2 of its 3 takes") {
		t.Errorf("%+v", c.Remarks)
	}
	var drifting []match.Run
	for i := range 8 {
		drifting = append(drifting, runs(r, shop(map[string]float64{"space": 20000 * (1 + 0.02*float64(i))}), 1)...)
	}
	c = compared(t, drifting, steady, compare.Options{Scale: scales.ByRun})
	if len(c.Remarks) != 1 || c.Remarks[0].Code != "drift" || c.Remarks[0].Side != 0 || !strings.Contains(c.Remarks[0].Text, "up") {
		t.Errorf("%+v", c.Remarks)
	}
}

func TestNothingToDivideBy(t *testing.T) {
	full, empty := runOf(invent.Profile(1, invent.Small)), runOf(invent.NewSeason(1).Take(invent.Shop{}))
	full.DurationNS, full.Work, empty.CPUNS = 0, 0, 0
	for _, s := range []scales.Scale{scales.ByShare, scales.BySecond, scales.ByCPU, scales.ByWork} {
		if _, err := compare.Compare([]match.Run{full, full}, []match.Run{empty}, compare.Options{Scale: s}); err == nil {
			t.Errorf("%s: something was divided by nothing", s)
		}
	}
	if _, err := compare.Compare(nil, []match.Run{full}, compare.Options{}); err == nil {
		t.Error("a side without a take was compared")
	}
	for _, x := range compared(t, []match.Run{full}, []match.Run{empty}, compare.Options{Scale: scales.ByRun}).Rows {
		if x.State != compare.Gone {
			t.Errorf("%s is %s, want gone", x.Name, x.State)
		}
	}
}

func TestFitting(t *testing.T) {
	a, b := invent.Take(1, invent.Small), invent.Take(2, invent.Small)
	b.Settings.Command = []string{"./made-2", "--scores", "3"}
	if s := scales.Fitting(measure.Column{}, a, b); s != scales.ByRun {
		t.Errorf("the same work to its end is compared by %q", s)
	}
	b.Settings.Command = []string{"./made-2", "--scores", "4"}
	if s := scales.Fitting(measure.Column{}, a, b); s != scales.ByYardstick {
		t.Errorf("other work is compared by %q", s)
	}
	a.Settings.Series, a.Settings.Side, b.Settings.Series, b.Settings.Side = "row", profile.Baseline, "row", profile.Candidate
	if s := scales.Fitting(measure.Column{}, a, b); s != scales.ByRun {
		t.Errorf("two commands taken in turns are compared by %q", s)
	}
	b.Settings.Series = "another row"
	if s := scales.Fitting(measure.Column{}, a, b); s != scales.ByYardstick {
		t.Errorf("two commands of two rows are compared by %q", s)
	}
	b.Settings.Command = a.Settings.Command
	b.Facts.EndedBy = "time"
	if s := scales.Fitting(measure.Column{}, a, b); s != scales.ByYardstick {
		t.Errorf("a take that was broken off is compared by %q", s)
	}
	a.Facts.Work, b.Facts.Work = 200, 300
	if s := scales.Fitting(measure.Column{Combine: measure.Level}, a, b); s != scales.ByRun {
		t.Errorf("a level is scaled: %s", s)
	}
	if s := scales.Fitting(measure.Column{}, a, b); s != scales.ByWork {
		t.Errorf("takes that tell their work are compared by %q", s)
	}
}
