package calltree

import (
	"entelon/core/keytable"
	"entelon/core/profile"
)

// foldUp makes the nodes of a tree in which some frames have none of their own:
// where a frame goes depends on those above it, so that stacks are taken one by
// one, and a table tells which nodes there are already.
func foldUp(t *Tree, fold folding) {
	p := t.Profile
	same := profile.Canonical(p)
	room := p.Stacks.Len()
	t.Parent, t.Function = make([]NodeID, 1, room), make([]profile.FunctionID, 1, room)
	t.Depth, t.Inlined = make([]int32, 1, room), make([]bool, 1, room)
	known := keytable.New(p.Stacks.Len())
	begun := make([]bool, 1, p.Stacks.Len()) // by node: something is above that not every program begins with
	for s := 1; s < p.Stacks.Len(); s++ {
		frame := p.Frames[p.Stacks.Frame[s]]
		parent, function := t.NodeOf[p.Stacks.Parent[s]], same[frame.Function]
		if fold.into != nil && begun[parent] && fold.into(function) ||
			fold.below != nil && parent != 0 && fold.below(function) && fold.below(t.Function[parent]) {
			t.NodeOf[s] = parent
			continue
		}
		if fold.merge {
			if n := above(t, parent, function); n != 0 {
				t.NodeOf[s] = n
				continue
			}
		}
		key := uint64(parent)<<32 | uint64(function)
		at, fresh := known.Find(key, uint32(len(t.Parent)))
		n := NodeID(at)
		if fresh {
			t.Parent = append(t.Parent, parent)
			t.Function = append(t.Function, function)
			t.Depth = append(t.Depth, t.Depth[parent]+1)
			t.Inlined = append(t.Inlined, true)
			begun = append(begun, begun[parent] || !p.Functions[function].Entry)
		}
		t.Inlined[n] = t.Inlined[n] && frame.Inlined
		t.NodeOf[s] = n
	}
	number(t)
	// A stack whose last frame was folded has the node of another one.
	t.first, t.with = make([]profile.StackID, t.Len()), make([]profile.StackID, p.Stacks.Len())
	for s := p.Stacks.Len() - 1; s > 0; s-- {
		if n := t.NodeOf[s]; n != 0 && t.Parent[n] == t.NodeOf[p.Stacks.Parent[s]] {
			t.with[s], t.first[n] = t.first[n], profile.StackID(s)
		}
	}
}

// number gives the nodes, which are in the order in which their stacks were
// found, the numbers in the order of the tree.
func number(t *Tree) {
	n := t.Len()
	size := make([]NodeID, n) // of the node with all below it
	for i := n - 1; i >= 0; i-- {
		size[i]++
		if i > 0 {
			size[t.Parent[i]] += size[i]
		}
	}
	// Siblings come in the order in which they were found, each behind what is
	// below the one before.
	to, next := make([]NodeID, n), make([]NodeID, n)
	next[0] = 1
	for i := 1; i < n; i++ {
		p := t.Parent[i]
		to[i] = next[p]
		next[p] += size[i]
		next[i] = to[i] + 1
	}
	parent, function, depth, inlined := make([]NodeID, n), make([]profile.FunctionID, n), make([]int32, n), make([]bool, n)
	for i := range n {
		at := to[i]
		parent[at], function[at], depth[at], inlined[at] = to[t.Parent[i]], t.Function[i], t.Depth[i], t.Inlined[i]
	}
	t.Parent, t.Function, t.Depth, t.Inlined = parent, function, depth, inlined
	for s, i := range t.NodeOf {
		t.NodeOf[s] = to[i]
	}
}

// above returns the nearest node of a function on the way from a node to the
// root, that node included; 0 where there is none.
func above(t *Tree, n NodeID, f profile.FunctionID) NodeID {
	for ; n != 0 && t.Function[n] != f; n = t.Parent[n] {
	}
	return n
}
