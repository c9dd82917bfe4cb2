package compare

import (
	"math"
	"time"

	"gonum.org/v1/gonum/stat"
)

// Group are the takes of one side, where their cost is all that is known of them.
type Group struct {
	Value   []float64 // scaled
	At      []time.Time
	Samples int64 // that all of them rest on
	// Shared is the relative variance of what the group and the one before it are
	// measured by; 0 where that is exact.
	Shared float64
}

// Add adds a take.
func (g *Group) Add(value float64, samples int64, at time.Time) {
	g.Value, g.At, g.Samples = append(g.Value, value), append(g.At, at), g.Samples+samples
}

// Totals compares two groups of takes by what each cost as a whole.
func Totals(a, b *Group, exact bool) Estimate {
	x, y := &cost{value: a.Value, samples: float64(a.Samples)}, &cost{value: b.Value, samples: float64(b.Samples)}
	s := wholeSpread(x, y, exact, ByRun)
	s.widen(widening([2]*cost{x, y}, [2][]time.Time{a.At, b.At}), x, y, exact)
	s.shared = b.Shared
	e := estimate(x, y, s, exact)
	if len(a.Value)+len(b.Value) == 2 {
		e.Verdict, e.Need = TooFew, e.need(DefaultWorth)
	} else {
		e.judge(e.P <= 1-confidence, DefaultWorth)
	}
	return e
}

// Mean is the mean of takes with its 95 % interval, from their spread; of one
// take both ends are the mean.
func Mean(x []float64) (mean, low, high float64) {
	mean = stat.Mean(x, nil)
	if len(x) < 2 {
		return mean, mean, mean
	}
	half := newLevel(float64(len(x)-1)).t * stat.StdDev(x, nil) / math.Sqrt(float64(len(x)))
	return mean, mean - half, mean + half
}
