package statistics

import (
	"cmp"
	"math"
	"slices"
	"time"
)

// What meets a take often meets the next one, too: the machine is warmer, or busier.
// Where both sides are interleaved that meets them alike; where one side is made
// after the other it looks like a difference. How much takes that follow each other
// have in common cannot be told well from a few of them, so what they tell is joined
// with what is likely beforehand.

const (
	// steps is in how many steps the correlation of neighbours is looked at, from 0
	// to almost 1.
	steps = 19
	step  = 0.05
)

// likely is how likely a correlation of neighbours is beforehand, up to a factor:
// the less the higher it is.
func likely(correlation float64) float64 { return 1 - correlation }

// inOrder is how many times as wide as when interleaved an interval of the difference has to
// be, 1 at least, because of the order in which takes were made. x are the values of
// takes in that order as parts of their side's mean, and side whose they are.
//
// With R the correlations of a process of the first order and w what turns takes
// into the difference of means, the variance of that difference is σ² w'Rw; σ² and
// how likely a correlation is follow from the restricted likelihood. The interval is
// that of the mixture over correlations.
//
// Source: H. D. Patterson and R. Thompson, Recovery of inter-block information when
// block sizes are unequal, Biometrika 58 (1971), 545–554, for the restricted
// likelihood; G. E. P. Box, G. M. Jenkins and G. C. Reinsel, Time Series Analysis, 3rd
// edition, 7.1.4 and A7.5, for the inverse of R.
func inOrder(x []float64, side []int) float64 {
	n := [2]float64{}
	for _, s := range side {
		n[s]++
	}
	df := float64(len(x) - 2)
	if df <= 0 || n[0] == 0 || n[1] == 0 {
		return 1
	}
	member := [2][]float64{make([]float64, len(x)), make([]float64, len(x))}
	weight := make([]float64, len(x))
	for i, s := range side {
		member[s][i] = 1
		weight[i] = (2*float64(s) - 1) / n[s]
	}
	var errors, weights []float64
	best := math.Inf(-1)
	alone := 0.0 // the standard error if takes had nothing in common
	for k := range steps {
		r := float64(k) * step
		a, b, c := inverse(r, member[0], member[0]), inverse(r, member[0], member[1]), inverse(r, member[1], member[1])
		p, q, det := inverse(r, member[0], x), inverse(r, member[1], x), a*c-b*b
		rest := make([]float64, len(x))
		for i := range x {
			rest[i] = x[i] - (c*p-b*q)/det*member[0][i] - (a*q-b*p)/det*member[1][i]
		}
		rss := inverse(r, rest, rest)
		if rss <= 0 {
			return 1 // all takes of a side are alike
		}
		common := 0.0
		for i := range weight {
			for j := range weight {
				common += weight[i] * weight[j] * math.Pow(r, math.Abs(float64(i-j)))
			}
		}
		e := math.Sqrt(rss / df * common)
		if k == 0 {
			alone = e
		}
		l := math.Log(likely(r)) - float64(len(x)-1)/2*math.Log(1-r*r) - math.Log(det)/2 - df/2*math.Log(rss)
		errors, weights, best = append(errors, e), append(weights, l), math.Max(best, l)
	}
	sum := 0.0
	for k, l := range weights {
		weights[k] = math.Exp(l - best)
		sum += weights[k]
	}
	level := NewLevel(df)
	half := solve(0, 1000*alone, func(h float64) float64 {
		outside := 0.0
		for k, e := range errors {
			outside += weights[k] / sum * 2 * below(-h/e, df)
		}
		return outside - (1 - Confidence)
	})
	if times := half / (level.HalfWidth * alone); times > 1.001 {
		return times
	}
	return 1
}

// inverse is a'R⁻¹b, where R are the correlations of a process of the first order.
func inverse(r float64, a, b []float64) float64 {
	sum := 0.0
	for i := range a {
		d := 1 + r*r
		if i == 0 || i == len(a)-1 {
			d = 1
		}
		sum += d * a[i] * b[i]
		if i > 0 {
			sum -= r * (a[i]*b[i-1] + a[i-1]*b[i])
		}
	}
	return sum / (1 - r*r)
}

// Widening is how much wider intervals are because of the order in which takes were
// made; 1 where a time is not known.
func Widening(costs [2]*Quantity, at [2][]time.Time) float64 {
	type made struct {
		at   int64
		x    float64
		side int
	}
	var list []made
	for side, c := range costs {
		mean := c.Mean()
		for i, v := range c.Value {
			if at[side][i].IsZero() || mean == 0 {
				return 1
			}
			list = append(list, made{at[side][i].UnixNano(), v/mean - 1, side})
		}
	}
	slices.SortStableFunc(list, func(a, b made) int { return cmp.Compare(a.at, b.at) })
	var x []float64
	var side []int
	for _, m := range list {
		x, side = append(x, m.x), append(side, m.side)
	}
	return inOrder(x, side)
}
