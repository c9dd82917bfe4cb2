package calltree

import (
	"sync"

	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scope"
	"entelon/core/tally"
)

// sieve prepares a scope for the samples of t.Profile.
func (t *Tree) sieve(sc scope.Scope) scope.Sieve {
	if t.base == nil || sc.All() {
		return sc.Sieve(t.Profile, t.samples.ordered)
	}
	in := sc.Select(t.base)
	if t.sampleOf != nil {
		all := in
		in = make([]bool, len(t.sampleOf))
		for i, at := range t.sampleOf {
			in[i] = all[at]
		}
	}
	return scope.Sieve{To: len(in), Samples: in}
}

// Cost is what the samples in a scope come to, by node.
type Cost struct {
	Measure int
	Reduced measure.Reduction // what was made of a level; "" of a sum
	tree    *Tree
	sum     tally.Sums // running over the tree's leaves
	once    sync.Once
	lines   tally.Sums // running over the leaves of the tree of stacks
	filled  sync.Once
	full    bool // each node has samples
}

// Cost adds up one measure over the samples in scope. Of a level it is that of the
// last snapshot there.
func (t *Tree) Cost(m int, sc scope.Scope) *Cost { return t.CostOf(m, measure.Last, sc) }

// CostOf is Cost with what is to be made of a level.
func (t *Tree) CostOf(m int, by measure.Reduction, sc scope.Scope) *Cost {
	sieve, divisor := t.reduced(m, by, sc)
	sum := t.samples.add(m, sieve)
	if t.leaves != nil {
		sum = tally.Reordered(sum, t.leaves)
	}
	c := &Cost{Measure: m, tree: t, sum: sum.Over(divisor)}
	if t.Profile.Measures[m].Combine == measure.Level {
		c.Reduced = by
	}
	return c
}

func (c *Cost) total(n NodeID) tally.Sum { return c.sum.Between(c.tree.leafAt[n], c.tree.stop[n]) }
func (c *Cost) self(n NodeID) tally.Sum  { return c.sum.Between(c.tree.leafAt[n], c.tree.leafAt[n+1]) }

// everywhere reports whether each node has samples that has leaves.
func (c *Cost) everywhere() bool {
	c.filled.Do(func() {
		c.full = true
		for l := 1; c.full && l < len(c.sum.Samples); l++ {
			c.full = c.sum.Samples[l] > c.sum.Samples[l-1]
		}
	})
	return c.full
}

// Total is the cost of a node and all below it, in the measure's unit.
func (c *Cost) Total(n NodeID) int64 { return c.total(n).Value }

// Self is the cost of a node alone, in the measure's unit.
func (c *Cost) Self(n NodeID) int64 { return c.self(n).Value }

// TotalSamples is how many samples Total rests on.
func (c *Cost) TotalSamples(n NodeID) int64 { return c.total(n).Samples }

// SelfSamples is how many samples Self rests on.
func (c *Cost) SelfSamples(n NodeID) int64 { return c.self(n).Samples }

// EachStack calls add with each stack that has a cost of its own.
func (c *Cost) EachStack(add func(stack profile.StackID, v int64)) {
	for l := uint32(0); int(l) < len(c.sum.Samples)-1; l++ {
		if v := c.sum.Between(l, l+1).Value; v != 0 {
			add(c.tree.leaf(int(l)), v)
		}
	}
}
