package events

import "entelon/core/measure"

// Size is how many rows have an amount from From, inclusive, to To, exclusive.
type Size struct {
	From, To int64
	Rows     int64
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
