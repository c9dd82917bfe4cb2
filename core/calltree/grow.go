package calltree

import (
	"slices"

	"entelon/core/profile"
)

// sprout is a stack on the way to its node. Those that become one node hang
// together, as do those with one parent. What is asked of a stack at once
// stands beside each other, since large trees do not fit into any cache.
type sprout struct {
	what  uint32          // its function, and whether that was inlined; then its node
	first profile.StackID // of those with this one as their parent, in their order; 0 for none
	next  profile.StackID // with the same parent
	with  profile.StackID // the next of the same node
}

// inlinedBit stands beside the function in sprout.what.
const inlinedBit = 1 << 31

// bud is a node that has no number yet: its stacks hang from the first of them.
type bud struct {
	parent      NodeID
	first, last profile.StackID
	seen        profile.StackID // the earliest of them
}

// grow makes the nodes in their order: on the way through the tree each node
// gathers the stacks that follow on its own, by their functions.
func grow(t *Tree) {
	p := t.Profile
	stacks := p.Stacks.Len()
	t.same = profile.Canonical(p)
	sprouts := make([]sprout, stacks)
	for s := stacks - 1; s > 0; s-- {
		x := &sprouts[s]
		frame := &p.Frames[p.Stacks.Frame[s]]
		x.what = uint32(t.same[frame.Function])
		if frame.Inlined {
			x.what |= inlinedBit
		}
		above := &sprouts[p.Stacks.Parent[s]]
		x.next, above.first = above.first, profile.StackID(s)
	}
	t.Parent, t.Function = make([]NodeID, 0, stacks), make([]profile.FunctionID, 0, stacks)
	t.Depth, t.Inlined = make([]int32, 0, stacks), make([]bool, 0, stacks)
	t.first, t.with = make([]profile.StackID, 0, stacks), make([]profile.StackID, stacks)
	buds := []bud{{}}
	budOf := make([]struct {
		node NodeID // whose child it is, and one more
		at   int32  // in buds
	}, len(p.Functions))
	for len(buds) > 0 {
		b := buds[len(buds)-1]
		buds = buds[:len(buds)-1]
		n := NodeID(len(t.Parent))
		function := profile.FunctionID(sprouts[b.first].what &^ inlinedBit)
		inlined, opened, single := n != 0, len(buds), sprouts[b.first].with == 0
		for s := b.first; ; s = sprouts[s].with {
			inlined = inlined && sprouts[s].what&inlinedBit != 0
			sprouts[s].what = uint32(n)
			for c := sprouts[s].first; c != 0; c = sprouts[c].next {
				known := &budOf[sprouts[c].what&^inlinedBit]
				if known.node != n+1 {
					known.node, known.at = n+1, int32(len(buds))
					buds = append(buds, bud{n, c, c, c})
					continue
				}
				x := &buds[known.at]
				sprouts[x.last].with = c
				x.last, x.seen = c, min(x.seen, c)
			}
			if sprouts[s].with == 0 {
				break
			}
		}
		t.first = append(t.first, b.first)
		t.Parent, t.Function = append(t.Parent, b.parent), append(t.Function, function)
		depth := int32(0)
		if n != 0 {
			depth = t.Depth[b.parent] + 1
		}
		t.Depth, t.Inlined = append(t.Depth, depth), append(t.Inlined, inlined)
		fresh := buds[opened:]
		if !single { // else they are in the order in which they were seen
			slices.SortFunc(fresh, func(a, b bud) int { return int(a.seen) - int(b.seen) })
		}
		slices.Reverse(fresh)
	}
	for s, x := range sprouts {
		t.NodeOf[s], t.with[s] = NodeID(x.what), x.with
	}
}
