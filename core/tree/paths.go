package tree

import (
	"sort"

	"entelon/core/profile"
)

// Step is a function on a path, with the cost that goes along the path up to it.
type Step struct {
	Function    profile.FunctionID
	Node        NodeID // from the roots; 0 from the leaves, where a step has many
	Self, Total int64  // from the leaves both are the cost that ends at the path's first function
	Samples     int64
	More        bool // there are steps behind it
}

// Below returns the steps that follow a node from the roots, the costliest first.
func (t *Tree) Below(c *Cost, n NodeID) []Step {
	var out []Step
	for m := range t.Children(n) {
		if c.TotalSamples(m) > 0 {
			out = append(out, Step{t.Function[m], m, c.Self(m), c.Total(m), c.TotalSamples(m), c.TotalSamples(m) > c.SelfSamples(m)})
		}
	}
	sortSteps(out)
	return out
}

// Leaves returns the steps that follow a path from the leaves: of an empty path
// the functions that cost something themselves, of any other the callers of its
// last function where the stack ends in this path. What begins there, at the
// root, is left out: it is the difference to the path's own cost.
func (t *Tree) Leaves(c *Cost, path []profile.FunctionID) []Step {
	sum := map[profile.FunctionID]*Step{}
	add := func(at NodeID, value, samples int64) {
		f := t.Function[at]
		s := sum[f]
		if s == nil {
			s = &Step{Function: f}
			sum[f] = s
		}
		s.Self += value
		s.Total += value
		s.Samples += samples
		s.More = s.More || t.Parent[at] != 0
	}
	last := NodeID(0) // several stacks may have one node; they stand together
	for l := range t.leaves {
		n := t.NodeOf[t.leaf(l)]
		if n == last || c.SelfSamples(n) == 0 {
			continue
		}
		last = n
		at := n
		fits := true
		for _, f := range path {
			if at == 0 || t.Function[at] != f {
				fits = false
				break
			}
			at = t.Parent[at]
		}
		if fits && at != 0 {
			add(at, c.Self(n), c.SelfSamples(n))
		}
	}
	out := make([]Step, 0, len(sum))
	for _, s := range sum {
		out = append(out, *s)
	}
	sortSteps(out)
	return out
}

func sortSteps(s []Step) {
	sort.Slice(s, func(i, j int) bool {
		if s[i].Total != s[j].Total {
			return s[i].Total > s[j].Total
		}
		if s[i].Function != s[j].Function {
			return s[i].Function < s[j].Function
		}
		return s[i].Node < s[j].Node
	})
}
