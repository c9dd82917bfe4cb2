package compare

import (
	"math"

	"gonum.org/v1/gonum/stat"
)

// Totals compares two groups of takes by what each cost as a whole, scaled, and
// by how many samples that rests on; where that is all that is known of them.
func Totals(a, b []float64, samples [2]int64, exact bool) Estimate {
	x, y := &cost{a, float64(samples[0])}, &cost{b, float64(samples[1])}
	e := estimate(x, y, wholeSpread(x, y, exact, Unscaled), exact)
	if len(a)+len(b) == 2 {
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
