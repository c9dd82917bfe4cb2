package ledger

import (
	"math"
	"math/rand/v2"

	"entelon/core/statistics"
)

// Shift is a build from which on a program costs more or less than before.
type Shift struct {
	At     int                 // position of the first build of the new level
	Change statistics.Estimate // of all builds from there on to the next shift, to those before back to the one before
	P      float64             // of so large a step anywhere by chance
}

const (
	// minLevel is how many builds make a level, and minShifted how many there must be in
	// all: with fewer, chance alone orders them so, more often than is allowed.
	minLevel   = 2
	minShifted = 6
	// shiftLevel is the rate of false alarms of each search for a step.
	shiftLevel = 0.05
	// shuffles is how often builds are put into another order.
	shuffles = 1999
	// maxShifts bounds the steps of a program.
	maxShifts = 8
)

// Shifts finds where the cost of a program changed for good, among builds that are given in
// their order: a step that no build shows by itself, or a slow drift. The place is that at
// which the means of the logarithms of the builds' costs on both sides, weighted by their
// takes, are furthest apart in standard errors; it counts if fewer than one in twenty random
// orders of the builds have as large a step anywhere. Whole builds change places, since the
// takes of one are alike. What is on each side of it is searched again.
//
// Source: A. J. Scott and M. Knott, A cluster analysis method for grouping means in the
// analysis of variance, Biometrics 30 (1974), 507–512, for splitting at the largest step;
// E. J. G. Pitman, Significance tests which may be applied to samples from any populations,
// Supplement to the Journal of the Royal Statistical Society 4 (1937), 119–130, for the test.
func Shifts(builds []statistics.Group, exact bool) []Shift {
	var logs, weights []float64
	for _, g := range builds {
		m, _, _ := statistics.Mean(g.Value)
		if m <= 0 {
			return nil // there is no logarithm of it
		}
		logs, weights = append(logs, math.Log(m)), append(weights, float64(len(g.Value)))
	}
	var at []int
	var p []float64
	var search func(from, to int)
	search = func(from, to int) {
		if to-from < minShifted || len(at) == maxShifts {
			return
		}
		k, chance := splitAt(logs[from:to], weights[from:to])
		if chance > shiftLevel {
			return
		}
		search(from, from+k)
		at, p = append(at, from+k), append(p, chance)
		search(from+k, to)
	}
	search(0, len(builds))
	var out []Shift
	for i, k := range at {
		from, to := 0, len(builds)
		if i > 0 {
			from = at[i-1]
		}
		if i+1 < len(at) {
			to = at[i+1]
		}
		before, after := together(builds[from:k]), together(builds[k:to])
		out = append(out, Shift{k, statistics.Totals(&before, &after, exact), p[i]})
	}
	return out
}

// together are builds together.
func together(builds []statistics.Group) (all statistics.Group) {
	for _, g := range builds {
		all.Value, all.At, all.Samples = append(all.Value, g.Value...), append(all.At, g.At...), all.Samples+g.Samples
		all.Shared += g.Shared
	}
	return all
}

// splitAt is the place of the largest step, and how likely one as large is by chance.
func splitAt(x, w []float64) (at int, p float64) {
	at, size := largest(x, w)
	r := rand.New(rand.NewPCG(uint64(len(x)), 19)) // the same answer each time
	y, v := append([]float64(nil), x...), append([]float64(nil), w...)
	asLarge := 1
	for range shuffles {
		r.Shuffle(len(y), func(i, j int) { y[i], y[j], v[i], v[j] = y[j], y[i], v[j], v[i] })
		if _, s := largest(y, v); s >= size*(1-1e-12) {
			asLarge++
		}
	}
	return at, float64(asLarge) / (shuffles + 1)
}

// largest is the largest step, in standard errors up to a factor.
func largest(x, w []float64) (at int, size float64) {
	var sum, all float64
	for i := range x {
		sum, all = sum+w[i]*x[i], all+w[i]
	}
	left, weight := 0.0, 0.0
	for k := 1; k < len(x); k++ {
		left, weight = left+w[k-1]*x[k-1], weight+w[k-1]
		if k < minLevel || len(x)-k < minLevel {
			continue
		}
		d := math.Abs(left/weight-(sum-left)/(all-weight)) / math.Sqrt(1/weight+1/(all-weight))
		if d > size {
			at, size = k, d
		}
	}
	return at, size
}
