package compare

import "math"

// Short is a difference that is shown and that so few samples cannot tell from
// chance.
type Short struct {
	Row
	Times float64 // how many times as many samples on both sides would tell it
}

// worthKnowing is the share of the larger total from which on a difference is
// worth being told from chance, and tooMany the number of times beyond which
// more samples are no way to do it.
const (
	worthKnowing = 0.005
	tooMany      = 1000
)

// TooShort returns the largest difference of self cost that may be chance, if it
// is worth knowing. The error of a difference falls with the square root of the
// number of samples n, so that one of d with a standard error of e is told at
// z·e = d with n·(z·e/d)² samples.
func TooShort(rows []Row, a, b Side, scale Scale) (Short, bool) {
	largest := 1.0
	if by, err := divisor(a, scale); err == nil {
		largest = float64(a.Total) / by
	}
	if by, err := divisor(b, scale); err == nil {
		largest = math.Max(largest, float64(b.Total)/by)
	}
	if scale == ByTotal {
		largest = 1
	}
	var best Short
	for _, r := range rows {
		d := math.Abs(r.DeltaSelf)
		if r.Certain || d < worthKnowing*largest || r.ErrorSelf == 0 || d <= math.Abs(best.DeltaSelf) {
			continue
		}
		best = Short{r, math.Pow(changedAt*r.ErrorSelf/d, 2)}
	}
	return best, best.Times > 1 && best.Times < tooMany
}
