package events

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"entelon/core/measure"
)

// TestAmountsAreAsIfSorted: percentiles and steps come to what they would if all amounts had been put in
// order, whatever these are, and in how many parts they came.
func TestAmountsAreAsIfSorted(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 2))
	for try := range 300 {
		n := 1 + rnd.IntN(2000)
		if try%50 == 0 {
			n = 3 * blockRows
		}
		parts := make([]amounts, 1+rnd.IntN(3))
		all := make([]int64, n)
		for i := range all {
			v := int64(math.Exp(rnd.Float64() * 43))
			switch rnd.IntN(12) {
			case 0:
				v = -v
			case 1:
				v = []int64{0, 1, 2, 5, 100, 1000, math.MaxInt64, math.MinInt64, 1 << 40}[rnd.IntN(9)]
			}
			if try%7 == 0 {
				v = int64(rnd.IntN(3))
			}
			all[i] = v
			parts[rnd.IntN(len(parts))].add(v)
		}
		var a amounts
		for i := range parts {
			a.join(&parts[i])
		}
		slices.Sort(all)
		for _, unit := range []measure.Unit{measure.Nanoseconds, measure.Bytes} {
			bounds := a.boundsOf(unit)
			c := a.settle([]float64{0.5, 0.9, 0.99}, bounds)
			for _, share := range []float64{0.5, 0.9, 0.99} {
				if got, want := c.atMost(share), all[max(0, int(math.Ceil(share*float64(n)))-1)]; got != want {
					t.Fatalf("try %d: %g of %d amounts are at most %d, want %d", try, share, n, got, want)
				}
			}
			rows := int64(0)
			for i, s := range c.sizes(bounds) {
				want := int64(0)
				for _, v := range all {
					if v >= s.From && (v < s.To || s.From == s.To && v >= 0) {
						want++
					}
				}
				if s.Rows != want {
					t.Fatalf("try %d, %s: step %d, %+v, has %d rows", try, unit, i, s, want)
				}
				rows += s.Rows
			}
			if rows != int64(n) {
				t.Fatalf("try %d, %s: %d of %d rows are in steps", try, unit, rows, n)
			}
		}
		if a.smallest != all[0] || a.largest != all[n-1] || a.count != int64(n) {
			t.Fatalf("%d to %d, %d", a.smallest, a.largest, a.count)
		}
	}
}
