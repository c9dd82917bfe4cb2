package events

import (
	"entelon/core/measure"
	"entelon/core/profile"
)

// passing says whether intervals of a kind are the rows of this one.
func (k *Kind) passing(of profile.IntervalKind) bool {
	switch of {
	case profile.IntervalWait, profile.IntervalReady:
		return k.Name == measure.Waiting
	case profile.IntervalCall:
		return k.Name == measure.Syscalls
	}
	return of.Column() == k.first
}

// kinds are those of intervals that are the rows of this one.
func (k *Kind) kinds() (is [256]bool) {
	for of := range is {
		is[of] = k.passing(profile.IntervalKind(of))
	}
	return is
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
	is := k.kinds()
	moved := attribute(p, profile.AttributeMoved, profile.AttributeBytes)
	values = func(i int) (amount, events int64) {
		if !is[p.Intervals.Kind[i]] {
			return 0, 0
		}
		if k.count >= 0 {
			events = 1
		}
		switch k.Unit {
		case measure.Bytes:
			amount, _ = moved.at(i)
			return amount, max(events, 1)
		case measure.Nanoseconds:
			return p.Intervals.Duration[i], events
		}
		return 0, 1
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
