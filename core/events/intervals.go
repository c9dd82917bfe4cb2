package events

import (
	"entelon/core/measure"
	"entelon/core/profile"
)

// passing says whether intervals of a kind are the rows of a kind of events.
func passing(kind string, of profile.IntervalKind) bool {
	switch kind {
	case measure.Waiting:
		return of == profile.IntervalWait || of == profile.IntervalReady
	case measure.Syscalls:
		return of == profile.IntervalCall
	}
	return false
}

// keepsIntervals reports whether a take has events of a kind as intervals.
func keepsIntervals(p *profile.Profile, kind string) bool {
	for _, of := range p.Intervals.Kind {
		if passing(kind, of) {
			return true
		}
	}
	return false
}

// rows returns the profile whose samples are the rows of a kind: p itself or, where the kind's
// events were kept with their beginnings and their ends, one of intervals with the same measures.
func (k *Kind) rows(p *profile.Profile) *profile.Profile {
	if !k.Apart {
		return p
	}
	out := p.OfIntervals()
	out.Measures = p.Measures
	n := out.Samples.Len()
	none := make([]int64, n)
	out.Samples.Values = make([][]int64, len(p.Measures))
	for m := range out.Samples.Values {
		out.Samples.Values[m] = none
	}
	amounts, counts := make([]int64, n), make([]int64, n)
	for i, of := range p.Intervals.Kind {
		if passing(k.Name, of) {
			amounts[i], counts[i] = p.Intervals.Duration[i], 1
		}
	}
	if k.amount >= 0 {
		out.Samples.Values[k.amount] = amounts
	}
	if k.count >= 0 {
		out.Samples.Values[k.count] = counts
	}
	return out
}
