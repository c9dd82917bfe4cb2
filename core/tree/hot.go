package tree

import (
	"iter"
	"slices"
	"sort"
	"sync"

	"entelon/core/profile"
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
func (t *Tree) Functions(c *Cost) []FunctionCost {
	rows := make([]FunctionCost, len(t.Profile.Functions))
	var joining sync.Mutex
	shared(t.Len()-1, func(pieces iter.Seq2[int, int]) {
		part := make([]FunctionCost, len(rows))
		for low, high := range pieces {
			t.addFunctions(part, c, NodeID(low+1), NodeID(high+1))
		}
		joining.Lock()
		defer joining.Unlock()
		for f, x := range part {
			r := &rows[f]
			r.Self += x.Self
			r.SelfSamples += x.SelfSamples
			r.Total += x.Total
			r.TotalSamples += x.TotalSamples
		}
	})
	out := rows[:0]
	for f, r := range rows {
		if r.TotalSamples > 0 {
			r.Function = profile.FunctionID(f)
			out = append(out, r)
		}
	}
	SortBySelf(out)
	return out
}

// addFunctions adds to the rows of functions what some of the nodes cost.
func (t *Tree) addFunctions(rows []FunctionCost, c *Cost, from, to NodeID) {
	for n := from; n < to; n++ {
		first := t.leafAt[n]
		before := c.sum[first]
		total := c.sum[t.stop[n]].less(before)
		if total.samples == 0 {
			n = t.end[n] - 1
			continue
		}
		r := &rows[t.Function[n]]
		if next := t.leafAt[n+1]; first != next {
			self := c.sum[next].less(before)
			r.Self += self.value
			r.SelfSamples += self.samples
		}
		if t.Outermost[n] {
			r.Total += total.value
			r.TotalSamples += total.samples
		}
	}
}

// SortBySelf puts the largest self cost first; ties go to the larger total,
// then to the function that was seen first.
func SortBySelf(rows []FunctionCost) {
	sort.Slice(rows, func(i, j int) bool {
		a, b := rows[i], rows[j]
		if a.Self != b.Self {
			return a.Self > b.Self
		}
		if a.Total != b.Total {
			return a.Total > b.Total
		}
		return a.Function < b.Function
	})
}

// SortByTotal puts the largest total cost first; ties go to the larger self.
func SortByTotal(rows []FunctionCost) {
	sort.Slice(rows, func(i, j int) bool {
		a, b := rows[i], rows[j]
		if a.Total != b.Total {
			return a.Total > b.Total
		}
		if a.Self != b.Self {
			return a.Self > b.Self
		}
		return a.Function < b.Function
	})
}

// NodesOf returns the nodes of a function, parents before their children. The
// slice must not be changed.
func (t *Tree) NodesOf(f profile.FunctionID) []NodeID {
	t.byFunc.Do(func() {
		t.nodeAt = make([]uint32, len(t.Profile.Functions)+1)
		for _, f := range t.Function[1:] {
			t.nodeAt[f+1]++
		}
		for i := range t.Profile.Functions {
			t.nodeAt[i+1] += t.nodeAt[i]
		}
		next := append([]uint32(nil), t.nodeAt...)
		t.nodes = make([]NodeID, t.Len()-1)
		for n, f := range t.Function[1:] {
			t.nodes[next[f]] = NodeID(n + 1)
			next[f]++
		}
	})
	return t.nodes[t.nodeAt[f]:t.nodeAt[f+1]]
}

// Edge is a call relation of one function to another, with its cost.
type Edge struct {
	Function profile.FunctionID // 0: the outer end of the stack
	Value    int64
	Samples  int64
}

// Callers returns who calls f, with the part of f's total cost that each
// brings about; together they are f's total.
func (t *Tree) Callers(c *Cost, f profile.FunctionID) []Edge {
	sum := map[profile.FunctionID]Edge{}
	for _, n := range t.NodesOf(f) {
		if t.Outermost[n] {
			t.addEdge(sum, t.Function[t.Parent[n]], c, n)
		}
	}
	return sortedEdges(sum)
}

// Callees returns whom f calls, with the part of f's total cost that each
// takes. A call that occurs again below itself counts once. A function that
// calls itself is its own callee.
func (t *Tree) Callees(c *Cost, f profile.FunctionID) []Edge {
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
			t.addEdge(sum, g, c, m)
		}
	}
	return sortedEdges(sum)
}

func (t *Tree) addEdge(sum map[profile.FunctionID]Edge, f profile.FunctionID, c *Cost, n NodeID) {
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
func (t *Tree) SpreadPoint(c *Cost, share float64) NodeID {
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
