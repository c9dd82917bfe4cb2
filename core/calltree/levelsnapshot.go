package calltree

import (
	"slices"
	"sort"

	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scope"
)

// reduced is the sieve of a scope that lets through, of a level, only the snapshot
// that stands for the scope's stretch of time, and by how much what comes through is
// divided. Which snapshot that is does not depend on the stacks in scope: a function
// that holds nothing at the end has 0 at the end.
func (t *Tree) reduced(m int, by measure.Reduction, sc scope.Scope) (v scope.Sieve, divisor int64) {
	v = t.sieve(sc)
	p := t.Profile
	if p.Measures[m].Combine != measure.Level || p.Samples.Time == nil {
		return v, 1
	}
	whole := p // this tree's samples may be a part of it
	if t.base != nil {
		whole = t.base
	}
	stretch := sc.Sieve(whole, slices.IsSorted(whole.Samples.Time))
	var times []*scope.Span // where the samples are in no order
	for _, x := range stretch.Tests {
		if x.Time != nil && !x.Not {
			times = append(times, x.Time)
		}
	}
	in := func(at int64) bool {
		return !slices.ContainsFunc(times, func(x *scope.Span) bool { return !x.Holds(at) })
	}
	at, divisor := profile.Reduced(whole.Snapshots(m, stretch.From, stretch.To, in), by)
	if by == measure.Mean {
		return v, divisor
	}
	if !t.samples.ordered {
		v.Tests = append(slices.Clip(v.Tests), &scope.Test{Time: &scope.Span{From: at.Time, To: at.Time + 1}})
		return v, 1
	}
	sorted := p.Samples.Time
	v.From = max(v.From, sort.Search(len(sorted), func(i int) bool { return sorted[i] >= at.Time }))
	v.To = max(v.From, min(v.To, sort.Search(len(sorted), func(i int) bool { return sorted[i] > at.Time })))
	return v, 1
}
