package calltree

import (
	"slices"
	"sync"

	"entelon/core/parallel"
)

// atOnce is how many tallies are made before they are added up: so many that they
// stay near the processor.
const atOnce = 1 << 12

// running are running sums of n tallies: of all before each, and of all. fill sets
// those from low on; what it is given is empty. Pieces are added up by themselves
// and then set on top of each other.
func running(n int, alike int64, fill func(low int, out tallies)) tallies {
	out := newTallies(n+1, alike)
	var ends []int
	var joining sync.Mutex
	parallel.Each(n, func(low, high int) {
		var samples uint32
		var value int64
		for from := low; from < high; from += atOnce {
			part := out.part(from+1, min(from+atOnce, high)+1)
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
	below := newTallies(len(ends), alike) // by piece: of all before it
	for i := 1; i < len(ends); i++ {
		below.set(i, below.at(i-1).plus(out.at(ends[i-1])))
	}
	parallel.Each(n, func(low, high int) {
		for from := low; from < high; {
			i, _ := slices.BinarySearch(ends, from+1)
			to := min(ends[i], high)
			part := out.part(from+1, to+1)
			for k := range part.samples {
				part.samples[k] += below.samples[i]
			}
			for k := range part.value {
				part.value[k] += below.value[i]
			}
			from = to
		}
	})
	return out
}

// reordered are running sums in another order.
func reordered(sum tallies, order []uint32) tallies {
	return running(len(order), sum.alike, func(low int, out tallies) {
		for k := range out.samples {
			at := order[low+k]
			out.set(k, sum.between(at, at+1))
		}
	})
}
