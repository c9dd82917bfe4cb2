package scope

import (
	"sort"

	"entelon/core/profile"
)

// Sieve is a scope taken apart for the samples of one profile, so that each part
// of it is asked as seldom as it can be. A sample counts where all parts let it
// through.
type Sieve struct {
	From, To int                        // positions of samples, To exclusive
	Stack    func(profile.StackID) bool // nil: whatever its stack; quickest in the order of stacks, and not from two sides at once
	Samples  []bool                     // by position; nil: all
}

// Follow finds the states of stacks: 0 of the empty one, and of any other what a
// table says by the state of its parent and by its last function. It is nil where
// they cannot be found in this way. Who has the stacks in a better order than a
// profile brings one.
type Follow func(table [][]uint8) func(profile.StackID) uint8

// Sieve takes the scope apart. Where samples are in the order of their times, a
// part of the time is a part of their positions. follow may be nil.
func (s Scope) Sieve(p *profile.Profile, ordered bool, follow Follow) Sieve {
	n := p.Samples.Len()
	out := Sieve{To: n}
	about := &subject{p, s.about, follow}
	var stacks, rest []condition
	for _, x := range s.conditions() {
		if b, ok := x.(between); ok && ordered && p.Samples.Time != nil {
			times := p.Samples.Time
			out.From = max(out.From, sort.Search(n, func(i int) bool { return times[i] >= b.from }))
			if b.to != 0 {
				out.To = min(out.To, sort.Search(n, func(i int) bool { return times[i] >= b.to }))
			}
			continue
		}
		switch c := x.on(about); c.kind {
		case kindFixed:
			if !c.fixed {
				return Sieve{}
			}
		case kindStack:
			stacks = append(stacks, c)
		default:
			rest = append(rest, c)
		}
	}
	out.To = max(out.From, out.To)
	switch len(stacks) {
	case 0:
	case 1:
		out.Stack = stacks[0].stack
	default:
		out.Stack = func(id profile.StackID) bool {
			for _, c := range stacks {
				if !c.stack(id) {
					return false
				}
			}
			return true
		}
	}
	for i, c := range rest {
		in := make([]bool, n)
		c.mark(in)
		if i == 0 {
			out.Samples = in
			continue
		}
		for k, is := range in {
			out.Samples[k] = out.Samples[k] && is
		}
	}
	return out
}

// Each calls do for the positions of all samples that count, in their order.
func (v Sieve) Each(p *profile.Profile, do func(i int)) {
	for i := v.From; i < v.To; i++ {
		if (v.Samples == nil || v.Samples[i]) && (v.Stack == nil || v.Stack(p.Samples.Stack[i])) {
			do(i)
		}
	}
}
