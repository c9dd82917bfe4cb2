package truth

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"entelon/bench/section"
	"entelon/core/compare"
	"entelon/core/invent"
	"entelon/core/ledger"
	"entelon/core/match"
	"entelon/core/scales"
	"entelon/core/statistics"
)

// TestBlocks: takes that were made on several days, or machines, are compared within each:
// what differs between these does not hide a change, and is not taken for one.
func TestBlocks(t *testing.T) {
	times := 100
	if *comparing != "" {
		times = 2000
	}
	var b strings.Builder
	fmt.Fprintf(&b, "Written by `make truth` on %s, from %d simulated comparisons a row. 40 functions; takes differ by 2 %%, and each machine or day is another 10 %% off. Beside takes compared within blocks stand the same ones compared without them.\n\n| blocks | takes a side in each | slower by | called changed, with blocks | without | the interval covers, with blocks | without | width of the interval, with blocks to without |\n|--:|---|--:|--:|--:|--:|--:|--:|\n", time.Now().UTC().Format("2006-01-02"), times)
	for i, x := range []struct {
		takes  [][2]int // of each side, by block
		words  string
		slower float64
	}{
		{[][2]int{{3, 3}, {3, 3}}, "3 and 3", 0},
		{[][2]int{{2, 2}, {2, 2}, {2, 2}, {2, 2}}, "2 and 2", 0},
		{[][2]int{{4, 2}, {2, 4}, {3, 3}}, "4 and 2, 2 and 4, 3 and 3", 0},
		{[][2]int{{3, 3}, {3, 3}, {2, 0}}, "3 and 3, 3 and 3, 2 and none", 0},
		{[][2]int{{2, 2}, {2, 2}, {2, 2}, {2, 2}}, "2 and 2", 0.05},
		{[][2]int{{4, 2}, {2, 4}, {3, 3}}, "4 and 2, 2 and 4, 3 and 3", 0.05},
	} {
		season, r := invent.NewSeason(uint64(2000+i)), rand.New(rand.NewPCG(uint64(i), 5))
		shop := invent.Street(40, 2000)
		shop.Common, shop.Own = 0.02, 0.01
		var changed, covered [2]int
		width := [2]float64{}
		for range times {
			var sides [2][]match.Run
			at := 0
			for block, n := range x.takes {
				effect := math.Exp(0.1 * r.NormFloat64())
				for k := range max(n[0], n[1]) {
					for side, s := range []invent.Shop{shop.With("", effect), shop.With("", effect*(1+x.slower))} {
						if k < n[side] {
							run := sideOf(season, s, at)
							run.Conditions = []match.Condition{{Name: "machine", Value: fmt.Sprint("bench-", block)}}
							sides[side] = append(sides[side], run)
							at++
						}
					}
				}
			}
			for how := range 2 {
				if how == 1 {
					for side := range sides {
						for k := range sides[side] {
							sides[side][k].Conditions = nil
						}
					}
				}
				got, err := compare.Compare(sides[0], sides[1], compare.Options{Scale: scales.ByRun})
				if err != nil {
					t.Fatal(err)
				}
				if v := got.Whole.Verdict; v == statistics.Slower || v == statistics.Faster {
					changed[how]++
				}
				if got.Whole.RatioLow <= 1+x.slower && 1+x.slower <= got.Whole.RatioHigh {
					covered[how]++
				}
				width[how] += math.Log(got.Whole.RatioHigh / got.Whole.RatioLow)
			}
		}
		fmt.Fprintf(&b, "| %d | %s | %.0f %% | %s | %s | %s | %s | %.2f |\n", len(x.takes), x.words, 100*x.slower, percentOf(changed[0], times), percentOf(changed[1], times), percentOf(covered[0], times), percentOf(covered[1], times), width[0]/width[1])
		limit := 0.05*float64(times) + 3.3*math.Sqrt(0.05*0.95*float64(times))
		if float64(times-covered[0]) > limit || x.slower == 0 && float64(changed[0]) > limit {
			t.Errorf("%s: called changed %d, covered %d of %d", x.words, changed[0], covered[0], times)
		}
		if x.slower > 0 && (changed[0] < changed[1] || changed[0] < times/2) {
			t.Errorf("%s: %d of %d were found, %d without blocks", x.words, changed[0], times, changed[1])
		}
		if width[0] > width[1] {
			t.Errorf("%s: blocks make intervals wider", x.words)
		}
	}
	t.Log("\n" + b.String())
	if *comparing == "" {
		return
	}
	if err := section.Write(*comparing, "blocks", "make truth", b.String()); err != nil {
		t.Fatal(err)
	}
}

// sideOf is one take of a shop, a minute after the one before.
func sideOf(season *invent.Season, s invent.Shop, minute int) match.Run {
	return side(season.Take(s), time.Unix(int64(60*minute), 0))
}

// TestShifts: a drift over many builds, each within its noise, is found, and so is a step;
// where nothing changed, none is seen more often than is said.
func TestShifts(t *testing.T) {
	times := 120
	if *comparing != "" {
		times = 2000
	}
	var b strings.Builder
	fmt.Fprintf(&b, "Written by `make truth` on %s, from %d simulated histories a row of 20 builds with takes that differ by 3 %%; builds that nobody changed differ by 1 %% more.\n\n| takes of a build | what happened | a build is called slower than the one before | a step is found | its place, median and middle half | what it is said to be, median |\n|--:|---|--:|--:|--:|--:|\n", time.Now().UTC().Format("2006-01-02"), times)
	const n = 20
	for i, x := range []struct {
		takes int
		words string
		level func(k int) float64
		least float64 // how often it is to be found
	}{
		{3, "nothing", func(int) float64 { return 0 }, 0},
		{5, "nothing", func(int) float64 { return 0 }, 0},
		{3, "0.7 % more with each build", func(k int) float64 { return 0.007 * float64(k) }, 0.95},
		{5, "0.7 % more with each build", func(k int) float64 { return 0.007 * float64(k) }, 0.95},
		{5, "0.3 % more with each build", func(k int) float64 { return 0.003 * float64(k) }, 0.8},
		{5, "5 % more from the 11th on", func(k int) float64 { return 0.05 * float64(k/10) }, 0.95},
		{3, "2 % more from the 11th on", func(k int) float64 { return 0.02 * float64(k/10) }, 0.25},
	} {
		r := rand.New(rand.NewPCG(uint64(i), 77))
		found, slower := 0, 0
		var places, sizes []float64
		for range times {
			builds := make([]statistics.Group, n)
			for k := range builds {
				mean := x.level(k) + 0.01*r.NormFloat64()
				for j := range x.takes {
					builds[k].Add(1e9*math.Exp(mean+0.03*r.NormFloat64()), 100_000, time.Unix(int64(86400*k+60*j), 0))
				}
			}
			if shifts := ledger.Shifts(builds, true); len(shifts) > 0 {
				found++
				places, sizes = append(places, float64(shifts[0].At)), append(sizes, shifts[0].Change.Ratio-1)
			}
			for _, v := range ledger.Judge(builds, scales.ByRun, true) {
				if v.Mark == ledger.Regression {
					slower++
					break
				}
			}
		}
		where, size := "–", "–"
		if len(places) > times/10 {
			where = fmt.Sprintf("%.0f (%.0f to %.0f)", quantileOf(places, 0.5), quantileOf(places, 0.25), quantileOf(places, 0.75))
			size = statistics.Signed(quantileOf(sizes, 0.5))
		}
		fmt.Fprintf(&b, "| %d | %s | %s of histories | %s | %s | %s |\n", x.takes, x.words, percentOf(slower, times), percentOf(found, times), where, size)
		if x.least == 0 && float64(found) > 0.05*float64(times)+3.3*math.Sqrt(0.05*0.95*float64(times)) {
			t.Errorf("%d takes, nothing: a step in %d of %d", x.takes, found, times)
		}
		if float64(found) < x.least*float64(times) {
			t.Errorf("%d takes, %s: found in %d of %d", x.takes, x.words, found, times)
		}
	}
	t.Log("\n" + b.String())
	if *comparing == "" {
		return
	}
	if err := section.Write(*comparing, "steps", "make truth", b.String()); err != nil {
		t.Fatal(err)
	}
}

// quantileOf is a value below which a part of others is.
func quantileOf(x []float64, part float64) float64 {
	s := slices.Sorted(slices.Values(x))
	return s[int(part*float64(len(s)-1))]
}
