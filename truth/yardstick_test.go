package truth

import (
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"entelon/bench/section"
	"entelon/core/compare"
	"entelon/core/invent"
	"entelon/core/match"
	"entelon/core/scales"
)

// grown is how many times as much functions cost that somebody changed, one after the
// other; alike is the same where all grew by one factor.
var grown, alike = []float64{1.3, 1.6, 1.9, 2.2}, []float64{1.5}

// unequal is what many comparisons of runs of unequal length showed.
type unequal struct {
	changed, found   int     // functions that changed, and of these such that were told
	told, wrong      int     // functions that were told, and of these such that did not change
	alarms           int     // comparisons in which a function was told that did not change
	covered, refused int     // comparisons: the interval of the whole covers; there was no yardstick
	falsely          float64 // sum over comparisons of the share of wrong ones among those told, 0 where none was
}

// compareUnequal compares takes of a program with those of a build in which functions with a
// share of the cost grew, and which had a load of so many times.
func compareUnequal(t *testing.T, seed uint64, times, takes int, share, load float64, grown []float64) (out unequal) {
	t.Helper()
	base := invent.Street(40, 600)
	base.Common, base.Own = 0.03, 0.02
	total := 0.0
	for _, f := range base.Functions {
		total += f.Mean
	}
	// The changed ones are large and small alike.
	changed, sum := map[string]bool{}, 0.0
	for i, f := range base.Functions {
		if (i%2 == 0 || share > 0.5) && sum+f.Mean <= share*total*1.1 {
			changed[f.Name], sum = true, sum+f.Mean
		}
	}
	candidate, want, n := base, 1.0, 0
	for _, f := range base.Functions {
		if changed[f.Name] {
			by := grown[n%len(grown)]
			candidate, want, n = candidate.With(f.Name, by), want+(by-1)*f.Mean/total, n+1
		}
	}
	candidate = candidate.With("", load)
	season := invent.NewSeason(seed)
	for range times {
		var as, bs []match.Run
		for i := range takes {
			as = append(as, side(season.Take(base), time.Unix(int64(120*i), 0)))
			bs = append(bs, side(season.Take(candidate), time.Unix(int64(120*i+60), 0)))
		}
		r, err := compare.Compare(as, bs, compare.Options{Scale: scales.ByYardstick})
		if err != nil {
			out.refused++
			continue
		}
		if r.Whole.RatioLow <= want && want <= r.Whole.RatioHigh {
			out.covered++
		}
		out.changed += len(changed)
		told, wrong := 0, 0
		for _, row := range r.Rows {
			if !row.Certain {
				continue
			}
			if told++; changed[row.Name] && row.Self.Difference > 0 {
				out.found++
			} else {
				wrong++
			}
		}
		out.told, out.wrong = out.told+told, out.wrong+wrong
		if wrong > 0 {
			out.alarms++
			out.falsely += float64(wrong) / float64(told)
		}
	}
	return out
}

// TestYardstick: takes of unequal length and load are put on one scale by what stayed the
// same, whatever part of the program changed; what did not change is not called changed.
func TestYardstick(t *testing.T) {
	times := 40
	if *comparing != "" {
		times = 2000
	}
	var b strings.Builder
	fmt.Fprintf(&b, "Written by `make truth` on %s, from %d simulated comparisons a row. 40 functions, from 600 samples a take to 15; takes differ by 3 %%, each function by 2 %% more. Some functions, large and small ones, cost 1.3 to 2.2 times as much in the candidate, and its takes are of a load of so many times the baseline's. Where the greater part of the cost changed by one factor, few samples cannot tell whether that part grew or the rest shrank. Of the functions that are called changed no more than 5 %% are to be wrong.\n\n| takes a side | changed, of the cost | load | no yardstick | of those that changed, found | of those called changed, wrong, on average | comparisons with a wrong one | the interval of the whole covers |\n|--:|--:|--:|--:|--:|--:|--:|--:|\n", time.Now().UTC().Format("2006-01-02"), times)
	seed := uint64(1000)
	for _, takes := range []int{1, 5} {
		for _, change := range []struct {
			share float64
			grown []float64
			note  string
		}{{0, grown, ""}, {0.01, grown, ""}, {0.05, grown, ""}, {0.3, grown, ""}, {0.6, grown, ""}, {0.6, alike, ", all by one factor"}} {
			share := change.share
			for _, load := range []float64{1, 3, 10, 0.1} {
				if *comparing == "" && (load == 3 || share == 0.01) {
					continue
				}
				seed++
				x := compareUnequal(t, seed, times, takes, share, load, change.grown)
				compared := times - x.refused
				per := func(n, of int) string {
					if of == 0 {
						return "–"
					}
					return percentOf(n, of)
				}
				fmt.Fprintf(&b, "| %d | %.0f %%%s | %g | %s | %s | %s | %s | %s |\n", takes, 100*share, change.note, load, per(x.refused, times), per(x.found, x.changed), percentOf(int(math.Round(10*x.falsely)), 10*max(1, compared)), per(x.alarms, compared), per(x.covered, compared))
				limit := func(n int) float64 { return 0.05*float64(n) + 3.3*math.Sqrt(0.05*0.95*float64(n)) }
				name := fmt.Sprintf("%d takes, %.0f %% changed, a load of %g", takes, 100*share, load)
				// That the greater part grew by one factor, and not that the rest shrank by
				// one, few samples do not show to anybody: those rows only say so.
				if change.note != "" && (takes == 1 || load < 1) {
					continue
				}
				if x.falsely > limit(compared) {
					t.Errorf("%s: %+v", name, x)
				}
				if takes > 1 && float64(compared-x.covered) > limit(times) {
					t.Errorf("%s: the interval of the whole covers %d of %d", name, x.covered, compared)
				}
				// From few samples it cannot be told whether the greater part of the cost
				// grew or the smaller one shrank, and that is said.
				if told := load >= 1 && (takes > 1 || change.note == ""); told && float64(x.refused) > limit(times)+0.05*float64(times) && (takes > 1 || share < 0.3 || float64(x.refused) > 0.3*float64(times)) {
					t.Errorf("%s: %d of %d have no yardstick", name, x.refused, times)
				}
			}
		}
	}
	t.Log("\n" + b.String())
	if *comparing == "" {
		return
	}
	if err := section.Write(*comparing, "yardstick", "make truth", b.String()); err != nil {
		t.Fatal(err)
	}
}
