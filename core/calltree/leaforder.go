package calltree

import "entelon/core/profile"

// ownLeaves puts the stacks that samples have in the order of their nodes, by
// their positions.
func ownLeaves(t *Tree, g *byStack) []uint32 {
	if t.same == nil { // not every stack hangs from its node
		return placeLeaves(t, g.stacks)
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
	findStops(t)
	return out
}

// placeLeaves puts stacks in the order of their nodes, by their positions.
func placeLeaves(t *Tree, stacks []profile.StackID) []uint32 {
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
	findStops(t)
	return leaves
}

// findStops finds for each node how many leaves are before its End.
func findStops(t *Tree) {
	t.stop = make([]uint32, t.Len())
	for n, end := range t.end {
		t.stop[n] = t.leafAt[end]
	}
}

// findBare finds the nodes that have no leaves, neither of their own nor below.
func findBare(t *Tree) (bare []NodeID) {
	for n, stop := range t.stop {
		if stop == t.leafAt[n] {
			bare = append(bare, NodeID(n))
		}
	}
	return bare
}

// leaf returns the stack of a leaf.
func (t *Tree) leaf(l int) profile.StackID { return t.samples.stacks[t.positionOf(l)] }

// positionOf returns where the stack of a leaf stands in t.samples.
func (t *Tree) positionOf(l int) int {
	if t.leaves == nil {
		return l
	}
	return int(t.leaves[l])
}
