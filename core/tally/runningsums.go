package tally

import (
	"slices"
	"sync"

	"entelon/core/parallel"
)

// atOnce is how many tallies are made before they are added up: so many that they
// stay near the processor.
const atOnce = 1 << 12

// Running are running sums of n tallies: of all before each, and of all. fill sets
// those from low on; what it is given is empty. Pieces are added up by themselves
// and then set on top of each other.
func Running(n int, alike int64, fill func(low int, out Sums)) Sums {
	out := New(n+1, alike)
	var ends []int
	var joining sync.Mutex
	parallel.Each(n, func(low, high int) {
		var samples uint32
		var value int64
		for from := low; from < high; from += atOnce {
			part := out.Part(from+1, min(from+atOnce, high)+1)
			fill(from, part)
			samples, value = part.addUp(samples, value)
		}
		joining.Lock()
		defer joining.Unlock()
		ends = append(ends, high)
	})
	if len(ends) == 1 {
		return out
	}
	slices.Sort(ends)
	below := New(len(ends), alike) // by piece: of all before it
	for i := 1; i < len(ends); i++ {
		below.Set(i, below.At(i-1).Plus(out.At(ends[i-1])))
	}
	parallel.Each(n, func(low, high int) {
		for from := low; from < high; {
			i, _ := slices.BinarySearch(ends, from+1)
			to := min(ends[i], high)
			part := out.Part(from+1, to+1)
			for k := range part.Samples {
				part.Samples[k] += below.Samples[i]
			}
			for k := range part.Value {
				part.Value[k] += below.Value[i]
			}
			from = to
		}
	})
	return out
}

// Reordered are running sums in another order.
func Reordered(sum Sums, order []uint32) Sums {
	return Running(len(order), sum.Alike, func(low int, out Sums) {
		for k := range out.Samples {
			at := order[low+k]
			out.Set(k, sum.Between(at, at+1))
		}
	})
}
