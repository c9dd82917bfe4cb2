package compare

import (
	"math"

	"entelon/core/profile"
)

// SharedCode is how much of what both sides cost in themselves is in functions that are on
// both, by the side that shares less: from 0, of two programs that have nothing in common,
// to 1. Two builds of one program share most of it, whatever their files are called.
func (r *Result) SharedCode() float64 {
	var shared, all [2]float64
	for i := range r.Rows {
		row := &r.Rows[i]
		if row.Kind != profile.KindOwn {
			continue
		}
		both := row.TotalSamples[0] > 0 && row.TotalSamples[1] > 0
		for side, v := range []float64{row.Total.Baseline, row.Total.Candidate} {
			all[side] += v
			if both {
				shared[side] += v
			}
		}
	}
	least := 1.0
	for side := range all {
		if all[side] == 0 {
			return 0
		}
		least = math.Min(least, shared[side]/all[side])
	}
	return least
}
