package tree

import (
	"slices"

	"entelon/core/profile"
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
		states := func() []uint8 { return make([]uint8, t.deepest+1) }
		if roots, few := t.leaving(x, t.Len()/fewNodes); few {
			above := states()
			for _, n := range roots {
				above[t.Depth[n]-1] = 0
				t.run(x, n, t.end[n], above, in)
			}
			break
		}
		parallel(t.Len(), func(low, high int) {
			above := states()
			for _, n := range t.Path(NodeID(low)) {
				above[t.Depth[n]] = x.Next[above[t.Depth[n]-1]][t.Function[n]]
			}
			t.run(x, NodeID(low), NodeID(high), above, in)
		})
	default:
		for l, f := range t.tops() {
			in[l] = x.Top[f]
		}
		for l := range t.leafAt[1] { // of the root
			in[l] = false
		}
	}
	if x.Not {
		for l := range in {
			in[l] = !in[l]
		}
	}
	return in
}

// topsOf returns by leaf the function at the inner end of its stack.
func (t *Tree) topsOf() []profile.FunctionID {
	out := make([]profile.FunctionID, len(t.samples.stacks))
	parallel(t.Len(), func(low, high int) {
		for n := low; n < high; n++ {
			for l := t.leafAt[n]; l < t.leafAt[n+1]; l++ {
				out[l] = t.Function[n]
			}
		}
	})
	return out
}

// fewNodes is as which part of all nodes it takes less to look nodes up than to go
// through all of them.
const fewNodes = 32

// leaving returns the outermost nodes at which an automaton leaves its first state,
// in their order, where there are not more than most, and no other node than they and what is below
// them can be accepted.
func (t *Tree) leaving(x *scope.Stacks, most int) (nodes []NodeID, few bool) {
	if x.Accept[0] {
		return nil, false
	}
	count := 0
	var functions []profile.FunctionID
	for f, to := range x.Next[0] {
		if to != 0 {
			functions = append(functions, profile.FunctionID(f))
			if count += len(t.NodesOf(profile.FunctionID(f))); count > most {
				return nil, false
			}
		}
	}
	for _, f := range functions {
		nodes = append(nodes, t.NodesOf(f)...)
	}
	if len(functions) > 1 {
		slices.Sort(nodes)
	}
	outermost, end := nodes[:0:0], NodeID(0)
	for _, n := range nodes {
		if n >= end {
			outermost, end = append(outermost, n), t.end[n]
		}
	}
	return outermost, true
}

// run runs an automaton over the nodes from low to high and marks the leaves of
// those whose state is accepted. states are those of the nodes above low, by depth.
func (t *Tree) run(x *scope.Stacks, low, high NodeID, states []uint8, in []bool) {
	// Whatever is below a node of a settled state has that state, too.
	last := t.leafAt[high]
	for n := low; n < high; n++ {
		if n > 0 {
			d := t.Depth[n]
			states[d] = x.Next[states[d-1]][t.Function[n]]
		}
		k := states[t.Depth[n]]
		end := t.leafAt[n+1]
		if x.Settled[k] {
			end = min(t.stop[n], last)
		}
		if x.Accept[k] {
			for l := t.leafAt[n]; l < end; l++ {
				in[l] = true
			}
		}
		if x.Settled[k] {
			n = min(t.end[n], high) - 1
		}
	}
}
