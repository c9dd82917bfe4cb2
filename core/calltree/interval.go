package calltree

import "math"

// Normal quantiles for two-sided intervals.
const (
	Z95 = 1.959963984540054
	Z99 = 2.5758293035489004
)

// Interval returns the bounds of a share that was seen in k of n samples, by
// Wilson's score method: with p = k/n,
//
//	(p + z²/2n ± z·√(p(1−p)/n + z²/4n²)) / (1 + z²/n)
//
// It stays inside 0..1 and is right for small counts too (E. B. Wilson,
// Journal of the American Statistical Association 22, 1927). With n = 0
// nothing is known, and the bounds are 0 and 1.
func Interval(k, n int64, z float64) (low, high float64) {
	if n <= 0 {
		return 0, 1
	}
	p, m := float64(k)/float64(n), float64(n)
	centre := p + z*z/(2*m)
	half := z * math.Sqrt(p*(1-p)/m+z*z/(4*m*m))
	scale := 1 + z*z/m
	return max(0, (centre-half)/scale), min(1, (centre+half)/scale)
}
