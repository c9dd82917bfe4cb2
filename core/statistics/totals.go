package statistics

import (
	"math"
	"slices"
	"time"

	"gonum.org/v1/gonum/stat"

	"entelon/core/scales"
)

// Group are the takes of one side, where their cost is all that is known of them.
type Group struct {
	Value   []float64 // scaled
	At      []time.Time
	Samples int64 // that all of them rest on
	// Shared is the relative variance of what the group and the one before it are
	// measured by; 0 where that is exact.
	Shared float64
	// Varies is by how much each take's cost differs by itself, where all are of exact runs.
	Varies []float64
}

// Add adds a take.
func (g *Group) Add(value float64, samples int64, at time.Time) {
	g.Value, g.At, g.Samples = append(g.Value, value), append(g.At, at), g.Samples+samples
}

// AddExact adds a take of an exact run, whose cost differs by so much by itself.
func (g *Group) AddExact(value, varies float64, at time.Time) {
	g.Add(value, 0, at)
	g.Varies = append(g.Varies, varies)
}

// exact reports whether all takes are of exact runs.
func (g *Group) exact() bool { return len(g.Value) > 0 && len(g.Varies) == len(g.Value) }

// Totals compares two groups of takes by what each cost as a whole.
func Totals(a, b *Group, exact bool) Estimate {
	x, y := &Quantity{Value: a.Value, Samples: float64(a.Samples)}, &Quantity{Value: b.Value, Samples: float64(b.Samples)}
	if a.exact() && b.exact() {
		e := certain(x, y, slices.Max(a.Varies)+slices.Max(b.Varies))
		e.Judge(e.P == 0, DefaultWorth)
		return e
	}
	s := WholeSpread(x, y, exact, scales.ByRun)
	s.Widen(Widening([2]*Quantity{x, y}, [2][]time.Time{a.At, b.At}), x, y, exact)
	s.Shared = b.Shared
	e := Compare(x, y, s, exact)
	if len(a.Value)+len(b.Value) == 2 {
		e.Verdict, e.Need = TooFew, e.Needs(DefaultWorth)
	} else {
		e.Judge(e.P <= 1-Confidence, DefaultWorth)
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
	half := NewLevel(float64(len(x)-1)).HalfWidth * stat.StdDev(x, nil) / math.Sqrt(float64(len(x)))
	return mean, mean - half, mean + half
}
