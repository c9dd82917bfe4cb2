package tree

import (
	"sync"

	"entelon/core/profile"
	"entelon/core/scope"
)

// tally is what samples add up to.
type tally struct {
	value   int64 // in the measure's unit
	samples int64 // of this measure
}

func (a tally) less(b tally) tally { return tally{a.value - b.value, a.samples - b.samples} }

// placeLeaves puts the stacks that samples have in the order of their nodes.
func (t *Tree) placeLeaves() {
	stacks := t.samples.stacks
	// Counted one place further, the beginnings become the ends while the leaves
	// are placed, and with that the beginnings of the next ones.
	at := make([]uint32, t.Len()+2)
	for _, s := range stacks {
		at[t.NodeOf[s]+2]++
	}
	for i := 2; i < len(at); i++ {
		at[i] += at[i-1]
	}
	t.leaves = make([]uint32, len(stacks))
	for k, s := range stacks {
		to := &at[t.NodeOf[s]+1]
		t.leaves[*to] = uint32(k)
		*to++
	}
	t.leafAt = at[:t.Len()+1]
	t.stop = make([]uint32, t.Len())
	for n, end := range t.end {
		t.stop[n] = t.leafAt[end]
	}
}

// leaf returns the stack of a leaf.
func (t *Tree) leaf(l int) profile.StackID { return t.samples.stacks[t.leaves[l]] }

// sieve prepares a scope for the samples of t.Profile.
func (t *Tree) sieve(sc scope.Scope) scope.Sieve {
	if t.base == nil || sc.All() {
		return sc.Sieve(t.Profile, t.samples.ordered, t.follow())
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

// follow finds states of stacks by way of their nodes, where these have all frames
// that the stacks have: there are fewer of them, and in a better order.
func (t *Tree) follow() scope.Follow {
	if t.same == nil {
		return nil
	}
	return func(table [][]uint8) func(profile.StackID) uint8 {
		for f, first := range t.same {
			for _, row := range table {
				if row[f] != row[first] { // functions of one node that a scope tells apart
					return nil
				}
			}
		}
		states := make([]uint8, t.Len())
		for n := 1; n < len(states); n++ {
			states[n] = table[states[t.Parent[n]]][t.Function[n]]
		}
		return func(s profile.StackID) uint8 { return states[t.NodeOf[s]] }
	}
}

// Cost is what the samples in a scope add up to, by node.
type Cost struct {
	Measure int
	tree    *Tree
	sum     []tally // running over the tree's leaves
	once    sync.Once
	lines   []tally // running over the leaves of the tree of stacks
}

// Cost adds up one measure over the samples in scope.
func (t *Tree) Cost(measure int, sc scope.Scope) *Cost {
	return &Cost{Measure: measure, tree: t, sum: running(t.samples.add(measure, t.sieve(sc)), t.leaves)}
}

// running are the sums of tallies in an order: of all before each, and of all.
func running(xs []tally, order []uint32) []tally {
	out := make([]tally, len(order)+1)
	var sum tally
	for i, k := range order {
		out[i] = sum
		sum.value += xs[k].value
		sum.samples += xs[k].samples
	}
	out[len(order)] = sum
	return out
}

func (c *Cost) total(n NodeID) tally { return c.sum[c.tree.stop[n]].less(c.sum[c.tree.leafAt[n]]) }
func (c *Cost) self(n NodeID) tally  { return c.sum[c.tree.leafAt[n+1]].less(c.sum[c.tree.leafAt[n]]) }

// Total is the cost of a node and all below it, in the measure's unit.
func (c *Cost) Total(n NodeID) int64 { return c.total(n).value }

// Self is the cost of a node alone, in the measure's unit.
func (c *Cost) Self(n NodeID) int64 { return c.self(n).value }

// TotalSamples is how many samples Total rests on.
func (c *Cost) TotalSamples(n NodeID) int64 { return c.total(n).samples }

// SelfSamples is how many samples Self rests on.
func (c *Cost) SelfSamples(n NodeID) int64 { return c.self(n).samples }
