package callgraph_test

import (
	"testing"

	"entelon/core/callgraph"
	"entelon/core/calltree"
	"entelon/core/invent"
	"entelon/core/profile"
	"entelon/core/scope"
)

// What comes in on one side of each node is what goes out on the other, but
// where stacks begin and end.
func TestNeighboursConserve(t *testing.T) {
	for seed := range uint64(4) {
		p := invent.Profile(seed+40, invent.Small)
		tr := calltree.New(p)
		c := tr.Cost(0, scope.Scope{})
		for _, r := range calltree.Functions(tr, c) {
			for _, most := range []int{100, 3} {
				h := callgraph.Around(tr, c, r.Function, 3, most)
				if h.Total != r.Total || h.Nodes[0].Value != r.Total || h.Nodes[0].Function != r.Function {
					t.Fatalf("the middle has %d of %d", h.Total, r.Total)
				}
				in, out := make([]int64, len(h.Nodes)), make([]int64, len(h.Nodes))
				level := map[int]int{}
				for _, l := range h.Links {
					if h.Nodes[l.To].Level != h.Nodes[l.From].Level+1 {
						t.Fatal("a link passes a level")
					}
					out[l.From] += l.Value
					in[l.To] += l.Value
				}
				var callees int64
				for i, n := range h.Nodes {
					level[n.Level]++
					if n.Level < 0 && out[i] != n.Value {
						t.Errorf("a caller has %d and hands on %d", n.Value, out[i])
					}
					if n.Level > 0 && in[i] != n.Value {
						t.Errorf("a callee has %d and was handed %d", n.Value, in[i])
					}
					if n.Level == 1 {
						callees += n.Value
					}
				}
				if callees+h.Self != h.Total {
					t.Errorf("callees have %d, self is %d, the total %d", callees, h.Self, h.Total)
				}
				for l, n := range level {
					if n > most+1 {
						t.Errorf("%d functions on level %d", n, l)
					}
				}
			}
		}
		g := callgraph.Calls(tr, c, calltree.Functions(tr, c), 6, 0.01)
		self := g.HiddenSelf
		for _, f := range g.Functions {
			self += f.Self
		}
		if self != c.Total(0) || len(g.Functions) > 6 || len(g.Functions)+g.HiddenFunctions != len(calltree.Functions(tr, c)) {
			t.Errorf("the graph has %d of %d, %d functions and %d hidden", self, c.Total(0), len(g.Functions), g.HiddenFunctions)
		}
	}
}

// Paths from the roots are the tree; from the leaves each step is what ends
// there.
func TestPaths(t *testing.T) {
	p := invent.Profile(50, invent.Small)
	tr := calltree.New(p)
	c := tr.Cost(0, scope.Scope{})
	var walk func(n calltree.NodeID)
	walk = func(n calltree.NodeID) {
		sum := c.Self(n)
		for _, s := range callgraph.Below(tr, c, n) {
			sum += s.Total
			if s.More {
				walk(s.Node)
			} else if len(callgraph.Below(tr, c, s.Node)) > 0 {
				t.Fatal("there are steps behind the last one")
			}
		}
		if sum != c.Total(n) {
			t.Fatalf("node %d has %d, its steps %d", n, c.Total(n), sum)
		}
	}
	walk(0)
	var sum int64
	for _, s := range callgraph.Leaves(tr, c, nil) {
		sum += s.Total
		var up func(path []profile.FunctionID, total int64, depth int)
		up = func(path []profile.FunctionID, total int64, depth int) {
			var callers int64
			for _, x := range callgraph.Leaves(tr, c, path) {
				callers += x.Total
				if depth < 3 && x.More {
					up(append(path[:len(path):len(path)], x.Function), x.Total, depth+1)
				}
			}
			if callers > total {
				t.Fatalf("%v: callers have %d of %d", path, callers, total)
			}
		}
		up([]profile.FunctionID{s.Function}, s.Total, 0)
	}
	if sum != c.Total(0) {
		t.Errorf("the leaves have %d, the total is %d", sum, c.Total(0))
	}
}
