package statistics

import "sort"

// Significant reports which of many tests tell a difference from chance, so that of
// those that do no more than a share are wrong, on average.
//
// Source: Y. Benjamini and Y. Hochberg, Controlling the false discovery rate,
// Journal of the Royal Statistical Society B 57 (1995), 289–300.
func Significant(p []float64, rate float64) []bool {
	order := make([]int, len(p))
	for i := range order {
		order[i] = i
	}
	sort.Slice(order, func(i, j int) bool { return p[order[i]] < p[order[j]] })
	last := -1
	for i, k := range order {
		if p[k] <= rate*float64(i+1)/float64(len(p)) {
			last = i
		}
	}
	out := make([]bool, len(p))
	for _, k := range order[:last+1] {
		out[k] = true
	}
	return out
}
