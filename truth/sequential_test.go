package truth

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"entelon/bench/section"
	"entelon/core/statistics"
	"entelon/core/until"
)

// TestSequential: takes that are made until a difference is decided are called different no
// more often than is said where nothing changed, though it is looked after each pair; and
// fewer pairs are made than a fixed number that finds as much would take.
func TestSequential(t *testing.T) {
	times := 400
	if *comparing != "" {
		times = 4000
	}
	var b strings.Builder
	fmt.Fprintf(&b, "Written by `make truth` on %s, from %d simulated rows of pairs each, with takes that differ by 3 %%. At most %d pairs; worth knowing is 5 %%, and the stated rate of false alarms 5 %%.\n\n| slower by | called slower or faster | called unchanged | not decided | pairs, mean and 95 %% | in a row of all pairs, found |\n|--:|--:|--:|--:|--:|--:|\n", time.Now().UTC().Format("2006-01-02"), times, until.MaxPairs)
	u, err := until.Parse("decided 5%")
	if err != nil {
		t.Fatal(err)
	}
	u.Most = until.MaxPairs
	for i, slower := range []float64{0, 0.01, 0.03, 0.05, 0.1, 0.3} {
		r := rand.New(rand.NewPCG(uint64(i), 31))
		called, unchanged, wrong, fixed := 0, 0, 0, 0
		var pairs []float64
		for range times {
			var a, c statistics.Group
			var p until.Progress
			add := func() {
				at := time.Unix(int64(120*len(a.Value)), 0)
				a.Add(1e9*math.Exp(0.03*r.NormFloat64()), 100_000, at)
				c.Add(1e9*(1+slower)*math.Exp(0.03*r.NormFloat64()), 100_000, at.Add(time.Minute))
			}
			for len(a.Value) < u.Most && !p.Done {
				add()
				p = u.Decide(&a, &c, true)
			}
			pairs = append(pairs, float64(len(a.Value)))
			switch {
			case !p.Done:
			case p.Estimate.Verdict == statistics.NoChange:
				unchanged++
			default:
				called++
				if p.Estimate.Verdict == statistics.Faster {
					wrong++
				}
			}
			for len(a.Value) < u.Most {
				add()
			}
			if statistics.Totals(&a, &c, true).Verdict == statistics.Slower {
				fixed++
			}
		}
		mean := 0.0
		for _, n := range pairs {
			mean += n / float64(times)
		}
		fmt.Fprintf(&b, "| %.0f %% | %s | %s | %s | %.1f, %.0f | %s |\n", 100*slower, percentOf(called, times), percentOf(unchanged, times), percentOf(times-called-unchanged, times), mean, quantileOf(pairs, 0.95), percentOf(fixed, times))
		limit := 0.05*float64(times) + 3.3*math.Sqrt(0.05*0.95*float64(times))
		switch {
		case slower == 0 && float64(called) > limit:
			t.Errorf("nothing changed: called changed %d of %d times", called, times)
		case slower >= 0.05 && float64(unchanged) > limit:
			t.Errorf("%.0f %% slower: called unchanged %d of %d times", 100*slower, unchanged, times)
		case slower > 0 && float64(wrong) > limit/2:
			t.Errorf("%.0f %% slower: called faster %d times", 100*slower, wrong)
		case slower >= 0.1 && (called < times*95/100 || mean > 6):
			t.Errorf("%.0f %% slower: found %d of %d times, after %.1f pairs", 100*slower, called, times, mean)
		}
	}
	b.WriteString("\n**Until sure.** Takes of one command, until its mean is known to within a share.\n\n| takes differ by | until sure of | takes, mean and 95 % | the interval covers |\n|--:|--:|--:|--:|\n")
	for i, x := range [][2]float64{{0.03, 0.02}, {0.1, 0.05}, {0.1, 0.02}, {0.02, 0.05}} {
		r := rand.New(rand.NewPCG(uint64(i), 37))
		u := until.Rule{Within: x[1]}
		covered := 0
		var takes []float64
		mean := 0.0
		for range times {
			var g statistics.Group
			for {
				g.Add(1e9*math.Exp(x[0]*r.NormFloat64()-x[0]*x[0]/2), 100_000, time.Unix(int64(60*len(g.Value)), 0))
				if u.Sure(&g).Done {
					break
				}
			}
			takes = append(takes, float64(len(g.Value)))
			mean += float64(len(g.Value)) / float64(times)
			if _, low, high := statistics.Mean(g.Value); low <= 1e9 && 1e9 <= high {
				covered++
			}
		}
		fmt.Fprintf(&b, "| %.0f %% | %.0f %% | %.1f, %.0f | %s |\n", 100*x[0], 100*x[1], mean, quantileOf(takes, 0.95), percentOf(covered, times))
		if float64(times-covered) > 0.1*float64(times)+3.3*math.Sqrt(0.1*0.9*float64(times)) {
			t.Errorf("takes that differ by %g, until sure of %g: the interval covers %d of %d", x[0], x[1], covered, times)
		}
	}
	t.Log("\n" + b.String())
	if *comparing == "" {
		return
	}
	if err := section.Write(*comparing, "sequential", "make truth", b.String()); err != nil {
		t.Fatal(err)
	}
}
