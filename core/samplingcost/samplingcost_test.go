package samplingcost

import (
	"math"
	"math/rand/v2"
	"testing"
)

// TestCostOf: the interval holds a known cost as often as it says, and nothing is told of
// too few pairs.
func TestCostOf(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	const rounds, cost = 2000, 0.02
	within := 0
	for range rounds {
		var pairs [][2]int64
		for range 5 {
			bare := 1e9 * math.Exp(0.03*r.NormFloat64())
			pairs = append(pairs, [2]int64{int64(bare), int64(1e9 * (1 + cost) * math.Exp(0.03*r.NormFloat64()))})
		}
		c, ok := OfPairs(pairs)
		if !ok || c.Low > c.Share || c.Share > c.High {
			t.Fatalf("%+v %v", c, ok)
		}
		if c.Low <= cost && cost <= c.High {
			within++
		}
	}
	if share := float64(within) / rounds; share < 0.93 || share > 0.97 {
		t.Errorf("%.3f of the intervals hold it", share)
	}
	for _, pairs := range [][][2]int64{nil, {{1, 2}, {1, 2}}, {{1, 2}, {1, 2}, {0, 1}}} {
		if c, ok := OfPairs(pairs); ok {
			t.Errorf("%v: %+v", pairs, c)
		}
	}
}
