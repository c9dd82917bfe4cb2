package compare_test

import (
	"math"
	"math/rand/v2"
	"testing"

	"entelon/core/compare"
	"entelon/core/made"
	"entelon/core/profile"
	"entelon/core/scope"
	"entelon/core/tree"
)

func side(p *profile.Profile, duration int64) compare.Side {
	tr := tree.New(p)
	c := tr.Cost(0, scope.Scope{})
	return compare.Side{Profile: p, Functions: tr.Functions(c), Total: c.Total(0), Samples: c.TotalSamples(0), DurationNS: duration}
}

func TestAgainstItself(t *testing.T) {
	p := made.Profile(1, made.Small)
	for _, scale := range []compare.Scale{compare.ByTotal, compare.BySecond, compare.Unscaled} {
		rows, err := compare.Functions(side(p, 1e9), side(p, 1e9), scale)
		if err != nil {
			t.Fatal(err)
		}
		sum := 0.0
		for _, r := range rows {
			if r.State != compare.Same || r.DeltaSelf != 0 || r.DeltaTotal != 0 {
				t.Errorf("%s: %s is %s by %v", scale, r.Name, r.State, r.DeltaSelf)
			}
			sum += r.Baseline.Self
		}
		want := map[compare.Scale]float64{compare.ByTotal: 1, compare.BySecond: float64(p.Total(0)), compare.Unscaled: float64(p.Total(0))}[scale]
		if math.Abs(sum-want) > 1e-9*want {
			t.Errorf("%s: self costs sum to %v, want %v", scale, sum, want)
		}
	}
}

// flat makes a profile of n samples, each in a function drawn by weight.
func flat(r *rand.Rand, n int, weights map[string]float64) *profile.Profile {
	b := profile.NewBuilder()
	b.Measure("cpu", "ns", profile.Sum)
	th := b.Thread(b.Process(1), 1)
	var names []string
	var sums []float64
	total := 0.0
	for _, name := range []string{"space", "beam", "route", "skyline", "draw", "read"} {
		if w := weights[name]; w > 0 {
			total += w
			names, sums = append(names, name), append(sums, total)
		}
	}
	for i := range n {
		x := r.Float64() * total
		k := 0
		for sums[k] < x {
			k++
		}
		f := b.Frame(profile.Frame{Function: b.Function(profile.Function{Name: b.Intern(names[k])})})
		b.Sample(int64(i)*1e6, th, b.Push(0, f), 1_000_000)
	}
	return b.Profile()
}

func TestFindsAKnownDifference(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	before := map[string]float64{"space": 30, "beam": 30, "route": 30, "read": 10}
	after := map[string]float64{"space": 30, "beam": 30, "route": 60, "skyline": 10}
	rows, err := compare.Functions(side(flat(r, 10000, before), 10e9), side(flat(r, 13000, after), 13e9), compare.Unscaled)
	if err != nil {
		t.Fatal(err)
	}
	want := map[string]compare.State{"route": compare.Changed, "skyline": compare.New, "read": compare.Gone, "space": compare.Same, "beam": compare.Same}
	for _, row := range rows {
		if row.State != want[row.Name] || row.Certain != (row.State != compare.Same) {
			t.Errorf("%s is %s, certain %v, want %s", row.Name, row.State, row.Certain, want[row.Name])
		}
	}
	if rows[0].Name != "route" || math.Abs(rows[0].DeltaSelf-3e9) > 4*rows[0].ErrorSelf {
		t.Errorf("first is %s with %v ± %v, want route with 3e9", rows[0].Name, rows[0].DeltaSelf, rows[0].ErrorSelf)
	}
}

// TestNoChangeRaisesNoAlarm compares the same program a thousand times.
func TestNoChangeRaisesNoAlarm(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	weights := map[string]float64{"space": 40, "beam": 30, "route": 20, "draw": 8, "read": 2}
	alarms, rowsSeen := 0, 0
	for range 1000 {
		rows, err := compare.Functions(side(flat(r, 1000, weights), 1e9), side(flat(r, 1000, weights), 1e9), compare.ByTotal)
		if err != nil {
			t.Fatal(err)
		}
		for _, row := range rows {
			rowsSeen++
			if row.State == compare.Changed {
				alarms++
			}
		}
	}
	// One in a thousand is meant; of 5000 rows, 15 would come by chance less than once in 5000.
	if alarms > 15 {
		t.Errorf("%d of %d unchanged functions raised an alarm", alarms, rowsSeen)
	}
}

// TestRareFunctionsAreNotCertain: one that was met a few times on one side only
// is new, but chance may have made it so.
func TestRareFunctionsAreNotCertain(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	rows, err := compare.Functions(side(flat(r, 5000, map[string]float64{"space": 1}), 1e9),
		side(flat(r, 5000, map[string]float64{"space": 1, "read": 0.001}), 1e9), compare.ByTotal)
	if err != nil {
		t.Fatal(err)
	}
	for _, row := range rows {
		if row.Name == "read" && (row.State != compare.New || row.Certain || row.Candidate.SelfSamples == 0) {
			t.Errorf("with %d samples it is %s, certain %v", row.Candidate.SelfSamples, row.State, row.Certain)
		}
	}
	if len(rows) != 2 {
		t.Fatalf("%d rows, want 2", len(rows))
	}
}

func TestNothingToDivideBy(t *testing.T) {
	full, empty := side(made.Profile(1, made.Small), 0), compare.Side{Profile: profile.NewBuilder().Profile()}
	if _, err := compare.Functions(full, empty, compare.ByTotal); err == nil {
		t.Error("shares of an empty take were computed")
	}
	if _, err := compare.Functions(full, empty, compare.BySecond); err == nil {
		t.Error("seconds of a take without duration were computed")
	}
	rows, err := compare.Functions(full, empty, compare.Unscaled)
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range rows {
		if r.State != compare.Gone {
			t.Errorf("%s is %s, want gone", r.Name, r.State)
		}
	}
}

func TestFitting(t *testing.T) {
	a, b := made.Take(1, made.Small), made.Take(2, made.Small)
	b.Settings.Command = []string{"./made-2", "--scores", "3"}
	if s := compare.Fitting(a, b); s != compare.Unscaled {
		t.Errorf("the same work to its end is compared by %q", s)
	}
	b.Settings.Command = []string{"./made-2", "--scores", "4"}
	if s := compare.Fitting(a, b); s != compare.ByTotal {
		t.Errorf("other work is compared by %q", s)
	}
	b.Settings.Command = a.Settings.Command
	b.Facts.EndedBy = "time"
	if s := compare.Fitting(a, b); s != compare.ByTotal {
		t.Errorf("a take that was broken off is compared by %q", s)
	}
}

// More samples of a difference that was too small to tell do tell it: with as
// many times as is said, about half of such takes show it.
func TestTooShort(t *testing.T) {
	before, after := map[string]float64{"space": 50, "beam": 30, "route": 20}, map[string]float64{"space": 47, "beam": 30, "route": 23}
	r := rand.New(rand.NewPCG(7, 7))
	compared := func(n int) ([]compare.Row, compare.Side, compare.Side) {
		a, b := side(flat(r, n, before), 1e9), side(flat(r, n, after), 1e9)
		rows, err := compare.Functions(a, b, compare.ByTotal)
		if err != nil {
			t.Fatal(err)
		}
		return rows, a, b
	}
	said, told := 0, 0
	for range 200 {
		rows, a, b := compared(600)
		x, ok := compare.TooShort(rows, a, b, compare.ByTotal)
		if !ok {
			continue
		}
		said++
		if x.Certain || x.Times <= 1 {
			t.Fatalf("%s is short by %v", x.Name, x.Times)
		}
		more, _, _ := compared(int(600 * x.Times))
		for _, r := range more {
			if r.Name == x.Name && r.Certain {
				told++
			}
		}
	}
	if said < 150 || told < said/4 {
		t.Errorf("of 200 takes with a small difference %d are said to be short, and %d of those are told with more", said, told)
	}
	rows, a, b := compared(1_000_000)
	if x, ok := compare.TooShort(rows, a, b, compare.ByTotal); ok {
		t.Errorf("a million samples are too few for %s", x.Name)
	}
}
