package events

import (
	"sort"

	"entelon/core/measure"
)

// Size is how many rows have an amount from From, inclusive, to To, exclusive.
type Size struct {
	From, To int64
	Rows     int64
}

// sizes counts sorted amounts in steps that grow with them: of times 1, 2, 5, 10, 20, 50 … ns, of
// bytes powers of two. Steps without any between others are there, too. What is below 0 is one step.
func sizes(sorted []int64, unit measure.Unit) (out []Size) {
	if len(sorted) == 0 {
		return nil
	}
	from := int64(0)
	to := int64(1)
	below := sort.Search(len(sorted), func(i int) bool { return sorted[i] >= 0 })
	if below > 0 {
		out = append(out, Size{sorted[0], 0, int64(below)})
	}
	for n, at := 0, below; at < len(sorted); n++ {
		end := at + sort.Search(len(sorted)-at, func(i int) bool { return sorted[at+i] >= to })
		if end > at || len(out) > 0 {
			out = append(out, Size{from, to, int64(end - at)})
		}
		at, from = end, to
		if to = next(to, unit); to <= from { // there are no larger numbers
			out = append(out, Size{from, from, int64(len(sorted) - at)})
			break
		}
	}
	return out
}

// next is the bound after one; it is not above it where numbers end.
func next(bound int64, unit measure.Unit) int64 {
	if unit == measure.Bytes {
		return 2 * bound
	}
	lead := bound
	for lead >= 10 {
		lead /= 10
	}
	if lead == 2 {
		return bound / 2 * 5
	}
	return 2 * bound
}
