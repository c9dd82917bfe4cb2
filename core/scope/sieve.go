package scope

import (
	"slices"
	"sort"

	"entelon/core/profile"
)

// Sieve is a scope taken apart for the samples of one profile, so that each part
// of it is asked as seldom as it can be. A sample counts where all parts let it
// through.
type Sieve struct {
	From, To int     // positions of samples, To exclusive
	Stacks   *Test   // of stacks alone; nil: whatever its stack
	Tests    []*Test // of samples
	Samples  []bool  // by position; nil: all
}

// Test is a part of a scope: one of a test of stacks, of who ran, of a value, of
// the time, or several that are joined.
type Test struct {
	Tables *Stacks                                         // which stacks count
	Stack  func(profile.StackID) bool                      // the same, to be asked of one; not from two sides at once
	Who    func(profile.ThreadID, profile.LabelSetID) bool // whoever ran
	Amount *Amount
	Time   *Span
	Parts  []*Test // all of these have to hold,
	Any    bool    // or any of them
	Not    bool    // the opposite of all this counts
}

// Span is a part of the time, in nanoseconds since the take began.
type Span struct {
	From, To int64 // To exclusive; 0 is the end
	First    int   // positions of the samples in it, Last exclusive, where samples are in the order of their times
	Last     int
}

// Holds reports whether a time is in the span.
func (s *Span) Holds(at int64) bool { return (between{s.From, s.To}).holds(at) }

// Amount bounds the value that a sample has of a measure.
type Amount struct {
	Measure  int
	From, To int64 // inclusive
	None     bool  // a value of 0 can be within: else it says that the sample is of another measure
}

// Holds reports whether a value is within.
func (a Amount) Holds(v int64) bool { return v >= a.From && v <= a.To && (v != 0 || a.None) }

// Sieve takes the scope apart. Where samples are in the order of their times, a
// part of the time is a part of their positions.
func (s Scope) Sieve(p *profile.Profile, ordered bool) Sieve {
	out := Sieve{To: p.Samples.Len()}
	whole := (&subject{p, s.about}).gather(s.conditions(), false)
	parts := whole.parts
	if parts == nil || whole.enough {
		parts = []condition{whole}
	}
	for _, c := range parts {
		switch {
		case c.kind == kindFixed && !c.fixed:
			return Sieve{}
		case c.kind == kindFixed:
		case c.kind == kindStack:
			out.Stacks = c.test(ordered)
		case c.time != nil && p.Samples.Time == nil:
		case c.time != nil && ordered:
			at := c.test(ordered).Time
			out.From, out.To = max(out.From, at.First), min(out.To, at.Last)
		case c.single():
			out.mark(c)
		default:
			out.Tests = append(out.Tests, c.test(ordered))
		}
	}
	out.To = max(out.From, out.To)
	return out
}

// single reports whether a condition, or a part of it, has to be asked of each sample by its position, as
// whether something went on in its thread at that time: there is no test for that.
func (c condition) single() bool {
	if c.of != nil {
		return c.of.single()
	}
	if c.parts != nil {
		return slices.ContainsFunc(c.parts, condition.single)
	}
	return c.kind == kindSample && c.amount == nil && c.time == nil
}

// mark asks a condition of all samples.
func (v *Sieve) mark(c condition) {
	in := make([]bool, c.p.Samples.Len())
	c.mark(in)
	if v.Samples == nil {
		v.Samples = in
		return
	}
	for i := range in {
		v.Samples[i] = v.Samples[i] && in[i]
	}
}

func (c condition) test(ordered bool) *Test {
	switch {
	case c.kind == kindFixed:
		return &Test{Any: !c.fixed} // all of none hold, and none of them
	case c.kind == kindStack:
		return &Test{Tables: c.tables(), Stack: c.stack}
	case c.kind == kindWho:
		return &Test{Who: func(t profile.ThreadID, l profile.LabelSetID) bool { return c.who(who{t, l}) }}
	case c.amount != nil:
		return &Test{Amount: c.amount}
	case c.time != nil:
		at := &Span{From: c.time.from, To: c.time.to}
		if times := c.p.Samples.Time; ordered {
			at.Last = len(times)
			at.First = sort.Search(len(times), func(i int) bool { return times[i] >= at.From })
			if at.To != 0 {
				at.Last = sort.Search(len(times), func(i int) bool { return times[i] >= at.To })
			}
		}
		return &Test{Time: at}
	case c.of != nil:
		return &Test{Parts: []*Test{c.of.test(ordered)}, Not: true}
	}
	out := &Test{Any: c.enough}
	for _, p := range c.parts {
		out.Parts = append(out.Parts, p.test(ordered))
	}
	return out
}

// Holds reports whether sample i of p passes.
func (x *Test) Holds(p *profile.Profile, i int) bool {
	holds := !x.Any
	switch {
	case x.Stack != nil:
		holds = x.Stack(p.Samples.Stack[i])
	case x.Who != nil:
		w := whoRan(p, i)
		holds = x.Who(w.thread, w.labels)
	case x.Amount != nil:
		holds = x.Amount.Holds(p.Samples.Values[x.Amount.Measure][i])
	case x.Time != nil:
		holds = p.Samples.Time == nil || x.Time.Holds(p.Samples.Time[i])
	}
	for _, part := range x.Parts {
		if part.Holds(p, i) == x.Any {
			holds = x.Any
			break
		}
	}
	return holds != x.Not
}

// Each calls do for the positions of all samples that count, in their order.
func (v Sieve) Each(p *profile.Profile, do func(i int)) {
	for i := v.From; i < v.To; i++ {
		if v.Samples != nil && !v.Samples[i] || v.Stacks != nil && !v.Stacks.Holds(p, i) {
			continue
		}
		if !slices.ContainsFunc(v.Tests, func(x *Test) bool { return !x.Holds(p, i) }) {
			do(i)
		}
	}
}
