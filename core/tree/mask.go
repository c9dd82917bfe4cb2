package tree

import (
	"slices"

	"entelon/core/scope"
)

// mask tells of each leaf of a tree whether its stack counts. Nodes are gone
// through in their order, so that memory is read from its beginning to its end.
func (t *Tree) mask(x *scope.Test) []bool {
	if x.Tables != nil && t.same != nil && x.Tables.Alike(t.same) {
		return t.marked(x.Tables)
	}
	// Frames have no node of their own here, or one node has functions that the
	// scope tells apart.
	in := make([]bool, len(t.samples.stacks))
	for l, s := range t.samples.stacks {
		in[l] = x.Stack(s)
	}
	return in
}

func (t *Tree) marked(x *scope.Stacks) []bool {
	in := make([]bool, len(t.samples.stacks))
	switch {
	case x.Parts != nil:
		for i, p := range x.Parts {
			more := t.marked(p)
			if i == 0 {
				in = more
				continue
			}
			for l, is := range more {
				if x.Any {
					in[l] = in[l] || is
				} else {
					in[l] = in[l] && is
				}
			}
		}
	case x.Next != nil:
		t.nodesAt(func(low, high NodeID) { t.run(x, low, high, in) })
	default:
		t.nodesAt(func(low, high NodeID) {
			for n := max(low, 1); n < high; n++ {
				if x.Top[t.Function[n]] {
					for l := t.leafAt[n]; l < t.leafAt[n+1]; l++ {
						in[l] = true
					}
				}
			}
		})
	}
	if x.Not {
		for l := range in {
			in[l] = !in[l]
		}
	}
	return in
}

// nodesAt does something for all nodes, on all processors where that is worth it.
func (t *Tree) nodesAt(do func(low, high NodeID)) {
	parallel(t.Len(), func(low, high int) { do(NodeID(low), NodeID(high)) })
}

// run runs an automaton over the nodes from low to high and marks the leaves of
// those whose state is accepted. States above a node are kept by depth.
func (t *Tree) run(x *scope.Stacks, low, high NodeID, in []bool) {
	// Whatever is below a node of a settled state has that state, too.
	settled := make([]bool, len(x.Next))
	for k, row := range x.Next {
		settled[k] = !slices.ContainsFunc(row, func(to uint8) bool { return int(to) != k })
	}
	last := t.leafAt[high]
	states := make([]uint8, slices.Max(t.Depth)+1)
	for _, n := range t.Path(low) {
		states[t.Depth[n]] = x.Next[states[t.Depth[n]-1]][t.Function[n]]
	}
	for n := low; n < high; n++ {
		if n > 0 {
			d := t.Depth[n]
			states[d] = x.Next[states[d-1]][t.Function[n]]
		}
		k := states[t.Depth[n]]
		end := t.leafAt[n+1]
		if settled[k] {
			end = min(t.stop[n], last)
		}
		if x.Accept[k] {
			for l := t.leafAt[n]; l < end; l++ {
				in[l] = true
			}
		}
		if settled[k] {
			n = min(t.end[n], high) - 1
		}
	}
}
