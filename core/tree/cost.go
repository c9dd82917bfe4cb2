package tree

import (
	"slices"
	"sync"

	"entelon/core/profile"
	"entelon/core/scope"
)

// ownLeaves puts the stacks that samples have in the order of their nodes, by
// their positions.
func (t *Tree) ownLeaves(g *byStack) []uint32 {
	if t.same == nil { // not every stack hangs from its node
		return t.placeLeaves(g.stacks)
	}
	out := make([]uint32, 0, len(g.stacks))
	t.leafAt = make([]uint32, t.Len()+1)
	for n, s := range t.first {
		for ; ; s = t.with[s] {
			if k := g.rank[s]; k != 0 {
				out = append(out, k-1)
			}
			if t.with[s] == 0 {
				break
			}
		}
		t.leafAt[n+1] = uint32(len(out))
	}
	t.findStops()
	return out
}

// placeLeaves puts stacks in the order of their nodes, by their positions.
func (t *Tree) placeLeaves(stacks []profile.StackID) []uint32 {
	// Counted one place further, the beginnings become the ends while the leaves
	// are placed, and with that the beginnings of the next ones.
	at := make([]uint32, t.Len()+2)
	for _, s := range stacks {
		at[t.NodeOf[s]+2]++
	}
	for i := 2; i < len(at); i++ {
		at[i] += at[i-1]
	}
	leaves := make([]uint32, len(stacks))
	for k, s := range stacks {
		to := &at[t.NodeOf[s]+1]
		leaves[*to] = uint32(k)
		*to++
	}
	t.leafAt = at[:t.Len()+1]
	t.findStops()
	return leaves
}

// findStops finds for each node how many leaves are before its End.
func (t *Tree) findStops() {
	t.stop = make([]uint32, t.Len())
	for n, end := range t.end {
		t.stop[n] = t.leafAt[end]
	}
}

// findBare finds the nodes that have no leaves, neither of their own nor below.
func (t *Tree) findBare() (bare []NodeID) {
	for n, stop := range t.stop {
		if stop == t.leafAt[n] {
			bare = append(bare, NodeID(n))
		}
	}
	return bare
}

// leaf returns the stack of a leaf.
func (t *Tree) leaf(l int) profile.StackID { return t.samples.stacks[t.place(l)] }

// place returns where the stack of a leaf stands in t.samples.
func (t *Tree) place(l int) int {
	if t.leaves == nil {
		return l
	}
	return int(t.leaves[l])
}

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

// Cost is what the samples in a scope add up to, by node.
type Cost struct {
	Measure int
	tree    *Tree
	sum     tallies // running over the tree's leaves
	once    sync.Once
	lines   tallies // running over the leaves of the tree of stacks
	filled  sync.Once
	full    bool // each node has samples
}

// Cost adds up one measure over the samples in scope.
func (t *Tree) Cost(measure int, sc scope.Scope) *Cost {
	sum := t.samples.add(measure, t.sieve(sc))
	if t.leaves != nil {
		sum = reordered(sum, t.leaves)
	}
	return &Cost{Measure: measure, tree: t, sum: sum}
}

// atOnce is how many tallies are made before they are added up: so many that they
// stay near the processor.
const atOnce = 1 << 12

// running are running sums of n tallies: of all before each, and of all. fill sets
// those from low on; what it is given is empty. Pieces are added up by themselves
// and then set on top of each other.
func running(n int, alike int64, fill func(low int, out tallies)) tallies {
	out := newTallies(n+1, alike)
	var ends []int
	var joining sync.Mutex
	parallel(n, func(low, high int) {
		var samples uint32
		var value int64
		for from := low; from < high; from += atOnce {
			part := out.part(from+1, min(from+atOnce, high)+1)
			fill(from, part)
			samples, value = part.addUp(samples, value)
		}
		joining.Lock()
		defer joining.Unlock()
		ends = append(ends, high)
	})
	if len(ends) == 1 {
		return out
	}
	slices.Sort(ends)
	below := newTallies(len(ends), alike) // by piece: of all before it
	for i := 1; i < len(ends); i++ {
		below.set(i, below.at(i-1).plus(out.at(ends[i-1])))
	}
	parallel(n, func(low, high int) {
		for from := low; from < high; {
			i, _ := slices.BinarySearch(ends, from+1)
			to := min(ends[i], high)
			part := out.part(from+1, to+1)
			for k := range part.samples {
				part.samples[k] += below.samples[i]
			}
			for k := range part.value {
				part.value[k] += below.value[i]
			}
			from = to
		}
	})
	return out
}

// reordered are running sums in another order.
func reordered(sum tallies, order []uint32) tallies {
	return running(len(order), sum.alike, func(low int, out tallies) {
		for k := range out.samples {
			at := order[low+k]
			out.set(k, sum.between(at, at+1))
		}
	})
}

func (c *Cost) total(n NodeID) tally { return c.sum.between(c.tree.leafAt[n], c.tree.stop[n]) }
func (c *Cost) self(n NodeID) tally  { return c.sum.between(c.tree.leafAt[n], c.tree.leafAt[n+1]) }

// everywhere reports whether each node has samples that has leaves.
func (c *Cost) everywhere() bool {
	c.filled.Do(func() {
		c.full = true
		for l := 1; c.full && l < len(c.sum.samples); l++ {
			c.full = c.sum.samples[l] > c.sum.samples[l-1]
		}
	})
	return c.full
}

// Total is the cost of a node and all below it, in the measure's unit.
func (c *Cost) Total(n NodeID) int64 { return c.total(n).value }

// Self is the cost of a node alone, in the measure's unit.
func (c *Cost) Self(n NodeID) int64 { return c.self(n).value }

// TotalSamples is how many samples Total rests on.
func (c *Cost) TotalSamples(n NodeID) int64 { return c.total(n).samples }

// SelfSamples is how many samples Self rests on.
func (c *Cost) SelfSamples(n NodeID) int64 { return c.self(n).samples }
