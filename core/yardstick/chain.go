package yardstick

import "math"

// TakeFigures are what functions cost in themselves in one take, by a number that is the
// same in all takes of a program, and the samples that this rests on.
type TakeFigures struct {
	Cost, Samples []float64
	Whole         float64
}

// Chain puts the takes of builds, given in their order, on one scale by what stayed the same
// from each build to the next. It returns by what each take's figures are divided, so that
// the first build's mean take is 1, and the variance of the logarithm of each build's factor
// to the one before. The error is of type NoYardstick where some build has too little in
// common with the one before it.
func Chain(builds [][]TakeFigures, exact bool) (by [][]float64, variance []float64, err error) {
	if len(builds) == 0 {
		return nil, nil, nil
	}
	n := len(builds[0][0].Cost)
	tallies := make([]tally, len(builds))
	for k, takes := range builds {
		tallies[k] = newTally(n)
		for _, t := range takes {
			for f := range n {
				tallies[k].cost[f] += t.Cost[f]
				tallies[k].samples[f] += t.Samples[f]
			}
			tallies[k].whole += t.Whole
		}
	}
	by, variance = make([][]float64, len(builds)), make([]float64, len(builds))
	if len(builds) == 1 {
		for range builds[0] {
			by[0] = append(by[0], 1)
		}
		return by, variance, nil
	}
	factor := 1.0
	for k := 1; k < len(builds); k++ {
		c, err := commonFactor([2]tally{tallies[k-1], tallies[k]}, nil, exact)
		if err != nil {
			return nil, nil, err
		}
		of := func(takes []TakeFigures) (sums []float64) {
			for _, t := range takes {
				sum := 0.0
				for _, x := range c.in {
					sum += t.Cost[x.number]
				}
				sums = append(sums, sum)
			}
			return sums
		}
		// The factor is that of sums over takes.
		if k == 1 {
			by[0] = of(builds[0])
			if err := toMean(by[0], 1); err != nil {
				return nil, nil, err
			}
		}
		factor *= math.Exp(c.at) * float64(len(builds[k-1])) / float64(len(builds[k]))
		by[k], variance[k] = of(builds[k]), c.variance
		if err := toMean(by[k], factor); err != nil {
			return nil, nil, err
		}
	}
	return by, variance, nil
}
