package calltree

import (
	"entelon/core/parallel"
	"entelon/core/profile"
	"entelon/core/scope"
)

// mask tells of each leaf of a tree whether its stack counts. Nodes are gone
// through in their order, so that memory is read from its beginning to its end.
func mask(t *Tree, x *scope.Test) []bool {
	if x.Tables != nil && t.same != nil && x.Tables.Alike(t.same) {
		return marked(t, x.Tables)
	}
	// Frames have no node of their own here, or one node has functions that the
	// scope tells apart.
	in := make([]bool, len(t.samples.stacks))
	for l, s := range t.samples.stacks {
		in[l] = x.Stack(s)
	}
	return in
}

func marked(t *Tree, x *scope.Stacks) []bool {
	in := make([]bool, len(t.samples.stacks))
	switch {
	case x.Parts != nil:
		for i, p := range x.Parts {
			more := marked(t, p)
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
		turns := x.Turns()
		parallel.Each(t.Len(), func(low, high int) { run(t, x, turns, NodeID(low), NodeID(high), in) })
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
func topsOf(t *Tree) []profile.FunctionID {
	out := make([]profile.FunctionID, len(t.samples.stacks))
	parallel.Each(t.Len(), func(low, high int) {
		for n := low; n < high; n++ {
			for l := t.leafAt[n]; l < t.leafAt[n+1]; l++ {
				out[l] = t.Function[n]
			}
		}
	})
	return out
}

// run runs an automaton over the nodes from low to high and marks the leaves of
// those whose state is accepted. turns are the functions at which it changes
// its state anywhere: only nodes of these are looked at.
func run(t *Tree, x *scope.Stacks, turns []bool, low, high NodeID, in []bool) {
	type level struct {
		end   NodeID // of the nodes in this state
		state uint8
	}
	first, last := t.leafAt[low], t.leafAt[high]
	here := level{NodeID(t.Len()), 0}
	var above []level
	// What is below a node of a state has that state, too, up to where it changes again.
	enter := func(n NodeID) {
		k := x.Next[here.state][t.Function[n]]
		if k == here.state {
			return
		}
		if is := x.Accept[k]; is != x.Accept[here.state] {
			for l := max(t.leafAt[n], first); l < min(t.stop[n], last); l++ {
				in[l] = is
			}
		}
		above = append(above, here)
		here = level{t.end[n], k}
	}
	if x.Accept[0] {
		for l := first; l < last; l++ {
			in[l] = true
		}
	}
	for _, n := range t.Path(low) {
		if n != low {
			enter(n)
		}
	}
	for n := max(low, 1); n < high; n++ {
		if !turns[t.Function[n]] {
			continue
		}
		for n >= here.end {
			here, above = above[len(above)-1], above[:len(above)-1]
		}
		if enter(n); x.Settled[here.state] {
			n = min(here.end, high) - 1
		}
	}
}
