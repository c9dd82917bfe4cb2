package calltree

import (
	"cmp"
	"iter"
	"slices"
	"sort"
	"sync"

	"entelon/core/parallel"
	"entelon/core/profile"
	"entelon/core/tally"
)

// FunctionCost is one row of the hot-function table.
type FunctionCost struct {
	Function                  profile.FunctionID
	Self, Total               int64 // in the measure's unit
	SelfSamples, TotalSamples int64
}

// Functions returns the cost of every function with any, the largest self
// cost first. Self costs sum to the total of the scope; total costs count a
// recursive function once a stack.
func Functions(t *Tree, c *Cost) []FunctionCost {
	tops, root := t.tops(), int(t.leafAt[1])
	self := byFunction(t, len(tops)-root, func(sum []tally.Sum, low, high int) {
		for l := low + root; l < high+root; l++ {
			f := tops[l]
			sum[f] = sum[f].Plus(c.sum.Between(uint32(l), uint32(l+1)))
		}
	})
	total := byFunction(t, t.Len()-1, func(sum []tally.Sum, low, high int) {
		for n := NodeID(low + 1); n < NodeID(high+1); n++ {
			x := c.total(n)
			if x.Samples == 0 {
				n = t.end[n] - 1
			} else if t.Outermost[n] {
				f := t.Function[n]
				sum[f] = sum[f].Plus(x)
			}
		}
	})
	var out []FunctionCost
	for f, x := range total {
		if x.Samples > 0 {
			out = append(out, FunctionCost{profile.FunctionID(f), self[f].Value, x.Value, self[f].Samples, x.Samples})
		}
	}
	SortBySelf(out)
	return out
}

// byFunction adds something up by function, in pieces of n.
func byFunction(t *Tree, n int, add func(sum []tally.Sum, low, high int)) []tally.Sum {
	sum := make([]tally.Sum, len(t.Profile.Functions))
	var joining sync.Mutex
	parallel.Pieces(n, func(pieces iter.Seq2[int, int]) {
		mine := make([]tally.Sum, len(sum))
		for low, high := range pieces {
			add(mine, low, high)
		}
		joining.Lock()
		defer joining.Unlock()
		for f, x := range mine {
			sum[f] = sum[f].Plus(x)
		}
	})
	return sum
}

// SortBySelf puts the largest self cost first; ties go to the larger total,
// then to the function that was seen first.
func SortBySelf(rows []FunctionCost) {
	slices.SortFunc(rows, func(a, b FunctionCost) int {
		return cmp.Or(cmp.Compare(b.Self, a.Self), cmp.Compare(b.Total, a.Total), cmp.Compare(a.Function, b.Function))
	})
}

// SortByTotal puts the largest total cost first; ties go to the larger self.
func SortByTotal(rows []FunctionCost) {
	slices.SortFunc(rows, func(a, b FunctionCost) int {
		return cmp.Or(cmp.Compare(b.Total, a.Total), cmp.Compare(b.Self, a.Self), cmp.Compare(a.Function, b.Function))
	})
}

// Edge is a call relation of one function to another, with its cost.
type Edge struct {
	Function profile.FunctionID // 0: the outer end of the stack
	Value    int64
	Samples  int64
}

// Callers returns who calls f, with the part of f's total cost that each
// brings about; together they are f's total.
func Callers(t *Tree, c *Cost, f profile.FunctionID) []Edge {
	sum := map[profile.FunctionID]Edge{}
	for _, n := range t.NodesOf(f) {
		if t.Outermost[n] {
			addEdge(t, sum, t.Function[t.Parent[n]], c, n)
		}
	}
	return sortedEdges(sum)
}

// Callees returns whom f calls, with the part of f's total cost that each
// takes. A call that occurs again below itself counts once. A function that
// calls itself is its own callee.
func Callees(t *Tree, c *Cost, f profile.FunctionID) []Edge {
	sum := map[profile.FunctionID]Edge{}
	var calls []NodeID // out of one outermost node of f and those of f below it
	until := map[profile.FunctionID]NodeID{}
	for nodes := t.NodesOf(f); len(nodes) > 0; {
		end := t.end[nodes[0]]
		calls = calls[:0]
		recursive := len(nodes) > 1 && nodes[1] < end
		for len(nodes) > 0 && nodes[0] < end {
			for m := range t.Children(nodes[0]) {
				calls = append(calls, m)
			}
			nodes = nodes[1:]
		}
		if recursive {
			slices.Sort(calls)
			clear(until)
		}
		for _, m := range calls {
			g := t.Function[m]
			if recursive {
				if m < until[g] {
					continue // below a call of the same
				}
				until[g] = t.end[m]
			}
			addEdge(t, sum, g, c, m)
		}
	}
	return sortedEdges(sum)
}

func addEdge(t *Tree, sum map[profile.FunctionID]Edge, f profile.FunctionID, c *Cost, n NodeID) {
	if c.TotalSamples(n) == 0 {
		return
	}
	e := sum[f]
	e.Function = f
	e.Value += c.Total(n)
	e.Samples += c.TotalSamples(n)
	sum[f] = e
}

func sortedEdges(sum map[profile.FunctionID]Edge) []Edge {
	out := make([]Edge, 0, len(sum))
	for _, e := range sum {
		out = append(out, e)
	}
	sort.Slice(out, func(i, j int) bool {
		if out[i].Value != out[j].Value {
			return out[i].Value > out[j].Value
		}
		return out[i].Function < out[j].Function
	})
	return out
}

// SpreadPoint follows the heaviest path from the root for as long as one
// child holds at least the given share of its parent's total, and returns
// where it stops: there the cost stops being in one place.
func SpreadPoint(t *Tree, c *Cost, share float64) NodeID {
	n := NodeID(0)
	for {
		best := NodeID(0)
		for m := range t.Children(n) {
			if best == 0 || c.Total(m) > c.Total(best) {
				best = m
			}
		}
		if best == 0 || c.Total(best) == 0 || float64(c.Total(best)) < share*float64(c.Total(n)) {
			return n
		}
		n = best
	}
}
