package yardstick_test

import (
	"errors"
	"math"
	"testing"
	"time"

	"entelon/core/calltree"
	"entelon/core/compare"
	"entelon/core/invent"
	"entelon/core/match"
	"entelon/core/scales"
	"entelon/core/scope"
	"entelon/core/yardstick"
)

// runsOf are takes of a shop.
func runsOf(season *invent.Season, s invent.Shop, n int) (out []match.Run) {
	for i := range n {
		tr := calltree.New(season.Take(s))
		c := tr.Cost(0, scope.Scope{})
		out = append(out, match.Run{Tree: tr, Cost: c, Functions: calltree.Functions(tr, c), StartedAt: time.Unix(int64(60*i), 0)})
	}
	return out
}

// TestYardstickOfUnequalSides: how many takes there are of a side has nothing to do with
// how much work each did.
func TestYardstickOfUnequalSides(t *testing.T) {
	base := invent.Street(40, 2000)
	base.Common, base.Own = 0.02, 0.01
	for _, n := range [][2]int{{1, 1}, {2, 6}, {6, 2}} {
		season := invent.NewSeason(7)
		r, err := compare.Compare(runsOf(season, base, n[0]), runsOf(season, base.With("fn00", 2).With("", 4), n[1]), compare.Options{Scale: scales.ByYardstick})
		if err != nil {
			t.Fatal(n, err)
		}
		y := r.Yardstick
		if y.Low > 4.1 || y.High < 3.9 || y.Factor < 3.6 || y.Factor > 4.4 {
			t.Errorf("%v: a factor of %.3f (%.3f to %.3f)", n, y.Factor, y.Low, y.High)
		}
		want := 1 + 1/4.2785 // the first of forty has that share
		if math.Abs(r.Whole.Ratio-want) > 0.08 || r.Whole.RatioLow > want || r.Whole.RatioHigh < want {
			t.Errorf("%v: the whole is %.3f times as much (%.3f to %.3f), not %.3f", n, r.Whole.Ratio, r.Whole.RatioLow, r.Whole.RatioHigh, want)
		}
		for _, f := range y.Functions {
			if r.Name(f) == "fn00" {
				t.Errorf("%v: the yardstick has the function that changed", n)
			}
		}
	}
}

// TestSteadyShares: as a share, what did not change is another one where something else
// grew; by how much is known.
func TestSteadyShares(t *testing.T) {
	base := invent.Street(40, 2000)
	season := invent.NewSeason(5)
	r, err := compare.Compare(runsOf(season, base, 3), runsOf(season, base.With("fn00", 3).With("", 2), 3), compare.Options{Scale: scales.ByShare})
	if err != nil {
		t.Fatal(err)
	}
	if want := 1 / (1 + 2/4.2785); math.Abs(r.Steady-want) > 0.02 {
		t.Errorf("the share of what did not change is %.3f times as large, not %.3f", r.Steady, want)
	}
	if r, err = compare.Compare(runsOf(season, base, 3), runsOf(season, base, 3), compare.Options{Scale: scales.ByRun}); err != nil || r.Steady != 1 {
		t.Errorf("%v, %v", r.Steady, err)
	}
}

// TestNoYardstick: where too little stayed the same there is none, with the reason; shares
// are compared then if that is allowed.
func TestNoYardstick(t *testing.T) {
	half := invent.Street(40, 2000)
	for i := range half.Functions {
		half.Functions[i].Mean = 200
	}
	two := half
	for i := range 20 {
		two = two.With(half.Functions[i].Name, 2)
	}
	for name, x := range map[string][2]invent.Shop{
		"few functions": {invent.Street(4, 1000), invent.Street(4, 1000)},
		"two halves":    {half, two},
		"nothing":       {half, invent.Street(0, 1)},
	} {
		season := invent.NewSeason(3)
		a, b := runsOf(season, x[0], 2), runsOf(season, x[1], 2)
		var why yardstick.None
		if _, err := compare.Compare(a, b, compare.Options{Scale: scales.ByYardstick}); !errors.As(err, &why) {
			t.Errorf("%s: %v", name, err)
		}
		if name == "nothing" {
			continue // there is nothing to take a share of, either
		}
		r, err := compare.Compare(a, b, compare.Options{Scale: scales.ByYardstick, OrShares: true})
		if err != nil || r.Scale != scales.ByShare || len(r.Remarks) == 0 || r.Remarks[len(r.Remarks)-1].Code != "yardstick" {
			t.Errorf("%s: %v, %+v", name, err, r)
		}
	}
}

// TestChain: builds in a row are put on the scale of the first, whatever their takes' load
// and number; a break in the chain is told.
func TestChain(t *testing.T) {
	base := invent.Street(40, 2000)
	base.Common, base.Own = 0.02, 0.01
	season := invent.NewSeason(11)
	figures := func(s invent.Shop, n int) (out []yardstick.TakeFigures) {
		for _, r := range runsOf(season, s, n) {
			x := yardstick.TakeFigures{Cost: make([]float64, 40), Samples: make([]float64, 40), Whole: float64(r.Total())}
			for _, f := range r.Functions {
				// By name, since each take numbers its own.
				k := 0
				for p := r.Tree.Profile; p.FunctionName(f.Function) != s.Functions[k].Name; k++ {
				}
				x.Cost[k], x.Samples[k] = float64(f.Self), float64(f.SelfSamples)
			}
			out = append(out, x)
		}
		return out
	}
	builds := [][]yardstick.TakeFigures{figures(base, 3), figures(base.With("fn00", 2).With("", 5), 2), figures(base.With("fn00", 2).With("fn03", 3).With("", 0.5), 4)}
	by, variance, err := yardstick.Chain(builds, false)
	if err != nil || variance[0] != 0 || variance[1] <= 0 {
		t.Fatal(variance, err)
	}
	for k, want := range []float64{1, 5, 0.5} {
		sum := 0.0
		for _, v := range by[k] {
			sum += v / float64(len(by[k]))
		}
		if math.Abs(sum-want) > 0.06*want || len(by[k]) != len(builds[k]) {
			t.Errorf("build %d did %.3f times the first one's work, not %g", k, sum, want)
		}
	}
	if by, _, err := yardstick.Chain(builds[:1], false); err != nil || len(by[0]) != 3 || by[0][0] != 1 {
		t.Errorf("%v, %v", by, err)
	}
	empty := yardstick.TakeFigures{Cost: make([]float64, 40), Samples: make([]float64, 40)}
	if _, _, err := yardstick.Chain(append(builds, []yardstick.TakeFigures{empty}), false); !errors.As(err, new(yardstick.None)) {
		t.Errorf("%v", err)
	}
}
