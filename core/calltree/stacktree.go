package calltree

import (
	"entelon/core/profile"
	"entelon/core/tally"
)

// stackTree is the tree of stacks, where the same function at another line is
// another one: what the nodes do not know is asked here.
type stackTree struct {
	order []uint32 // leaves, in the order of the tree of stacks
	at    []uint32 // by stack: how many of order are before what is below it
	stop  []uint32 // and how many up to its end
	cut   []bool   // by node: the outer end of its stacks is unknown
}

// Prepare makes what only some questions need, before they are asked.
func (t *Tree) Prepare() {
	// First: a part of the time is what is mostly asked for next.
	sorted := t.samples.sorted()
	sorted.of(0)
	sorted.who()
	t.byLine()
	t.NodesOf(0)
	lowerNames(t)
	t.tops()
	t.bare()
}

func (t *Tree) stackTree() *stackTree {
	p := t.Profile
	n, parent, own := p.Stacks.Len(), p.Stacks.Parent, t.samples.stacks
	st := &stackTree{order: make([]uint32, len(own)), at: make([]uint32, n), stop: make([]uint32, n), cut: make([]bool, t.Len())}
	leafOf := make([]uint32, n) // and one more; 0 for none
	for l := range own {
		s := t.leaf(l)
		st.at[s], leafOf[s] = 1, uint32(l)+1
	}
	for s := n - 1; s > 0; s-- {
		st.at[parent[s]] += st.at[s] // how many there are
	}
	// From here on, stop is where the next that is met below a stack goes.
	for s := range profile.StackID(n) {
		if s == 0 {
			st.at[s] = 0
		} else {
			above := &st.stop[parent[s]]
			st.at[s], *above = *above, *above+st.at[s]
		}
		st.stop[s] = st.at[s]
		if l := leafOf[s]; l != 0 {
			st.order[st.stop[s]] = l - 1
			st.stop[s]++
		}
	}
	isCut := make([]bool, len(p.Functions))
	for f := range isCut {
		isCut[f] = p.Functions[f].Mark.CutOff()
	}
	for n := 1; n < t.Len(); n++ {
		st.cut[n] = st.cut[t.Parent[n]] || isCut[t.Function[n]]
	}
	return st
}

// byLine are the sums of a cost, running in the order of the tree of stacks.
func (c *Cost) byLine() tally.Sums {
	c.once.Do(func() {
		c.lines = tally.Reordered(c.sum, c.tree.byLine().order)
	})
	return c.lines
}
