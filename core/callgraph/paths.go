package callgraph

import (
	"iter"
	"sort"
	"sync"

	"entelon/core/calltree"
	"entelon/core/parallel"
	"entelon/core/profile"
)

// Step is a function on a path, with the cost that goes along the path up to it.
type Step struct {
	Function    profile.FunctionID
	Node        calltree.NodeID // from the roots; 0 from the leaves, where a step has many
	Self, Total int64           // from the leaves both are the cost that ends at the path's first function
	Samples     int64
	More        bool // there are steps behind it
}

// Below returns the steps that follow a node from the roots, the costliest first.
func Below(t *calltree.Tree, c *calltree.Cost, n calltree.NodeID) []Step {
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
func Leaves(t *calltree.Tree, c *calltree.Cost, path []profile.FunctionID) []Step {
	if len(path) == 0 {
		return ends(t, c)
	}
	sum := make([]Step, len(t.Profile.Functions))
	for _, n := range t.NodesOf(path[0]) {
		if c.SelfSamples(n) == 0 {
			continue
		}
		at := t.Parent[n]
		for _, f := range path[1:] {
			if at == 0 || t.Function[at] != f {
				at = 0
				break
			}
			at = t.Parent[at]
		}
		if at != 0 {
			s := &sum[t.Function[at]]
			s.Self += c.Self(n)
			s.Samples += c.SelfSamples(n)
			s.More = s.More || t.Parent[at] != 0
		}
	}
	return leafSteps(sum)
}

// ends returns the functions that cost something themselves.
func ends(t *calltree.Tree, c *calltree.Cost) []Step {
	sum := make([]Step, len(t.Profile.Functions))
	var joining sync.Mutex
	parallel.Pieces(t.Len()-1, func(pieces iter.Seq2[int, int]) {
		part := make([]Step, len(sum))
		for low, high := range pieces {
			for n := calltree.NodeID(low + 1); n <= calltree.NodeID(high); n++ {
				if !t.EndsStacks(n) {
					continue
				}
				if samples := c.SelfSamples(n); samples > 0 {
					s := &part[t.Function[n]]
					s.Self += c.Self(n)
					s.Samples += samples
					s.More = s.More || t.Parent[n] != 0
				}
			}
		}
		joining.Lock()
		defer joining.Unlock()
		for f, x := range part {
			s := &sum[f]
			s.Self += x.Self
			s.Samples += x.Samples
			s.More = s.More || x.More
		}
	})
	return leafSteps(sum)
}

// leafSteps returns the steps of functions that have any samples.
func leafSteps(sum []Step) []Step {
	out := sum[:0]
	for f, s := range sum {
		if s.Samples > 0 {
			s.Function, s.Total = profile.FunctionID(f), s.Self
			out = append(out, s)
		}
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
