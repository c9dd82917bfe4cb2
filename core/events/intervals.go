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

// rows returns the profile whose samples are the rows of a kind, with the amount of each and how many
// events it stands for: p itself or, where the kind's events were kept with their beginnings and their
// ends, one of intervals. That has values only where a scope asks for them.
func (k *Kind) rows(p *profile.Profile, valued bool) (of *profile.Profile, values func(i int) (amount, events int64)) {
	if !k.Apart {
		return p, func(i int) (amount, events int64) {
			if k.amount >= 0 {
				amount = p.Samples.Values[k.amount][i]
			}
			if k.count >= 0 {
				events = p.Samples.Values[k.count][i]
			}
			return amount, events
		}
	}
	out := p.OfIntervals()
	values = func(i int) (amount, events int64) {
		if !passing(k.Name, p.Intervals.Kind[i]) {
			return 0, 0
		}
		if k.count >= 0 {
			events = 1
		}
		return p.Intervals.Duration[i], events
	}
	if !valued {
		return out, values
	}
	out.Measures = p.Measures
	n := out.Samples.Len()
	none := make([]int64, n)
	out.Samples.Values = make([][]int64, len(p.Measures))
	for m := range out.Samples.Values {
		out.Samples.Values[m] = none
	}
	amounts, counts := make([]int64, n), make([]int64, n)
	for i := range amounts {
		amounts[i], counts[i] = values(i)
	}
	if k.amount >= 0 {
		out.Samples.Values[k.amount] = amounts
	}
	if k.count >= 0 {
		out.Samples.Values[k.count] = counts
	}
	return out, values
}
