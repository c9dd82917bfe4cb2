// Package callgraph tells who calls whom: the callers and callees around a function, the call
// graph of all, and paths that are followed step by step from the roots or from the leaves.
//
// A large pass is shared among goroutines that end with the call; a lock within it joins what
// they found.
package callgraph

import (
	"iter"
	"sort"
	"sync"

	"entelon/core/calltree"
	"entelon/core/parallel"
	"entelon/core/profile"
)

// Neighbour is a function some steps away from the one in the middle.
type Neighbour struct {
	Function profile.FunctionID // 0: several that are too small to stand alone, or the outer end of stacks
	Level    int                // -1: calls it, 1: is called by it, and so on; 0 is the function itself
	Value    int64              // of the function in the middle, the part that goes through here
	Samples  int64
	Others   int // how many functions this stands for, where it is several
}

// Link is a call between two neighbours, by their positions.
type Link struct {
	From, To int // From calls To
	Value    int64
}

// Neighbourhood is where the cost of a function comes in and where it goes on.
type Neighbourhood struct {
	Nodes []Neighbour // the middle first, then level by level outwards, the costliest first
	Links []Link
	Self  int64 // that stays in the function
	Total int64
}

// Around sums over all stacks with f, each once, at its outermost frame: the
// callers up to so many levels away, and the callees. On each level at most
// most functions stand alone; the rest stands together. Links out of a node sum
// to its value less what ends there.
func Around(t *calltree.Tree, c *calltree.Cost, f profile.FunctionID, levels, most int) Neighbourhood {
	var h Neighbourhood
	all := newAround(t, c, levels)
	middle := levelFunction{0, f}
	nodes := t.NodesOf(f)
	var joining sync.Mutex
	parallel.PiecesFrom(parallel.Worth/32, len(nodes), func(pieces iter.Seq2[int, int]) {
		a := newAround(t, c, levels)
		var self int64
		for low, high := range pieces {
			for _, node := range nodes[low:high] {
				if t.Outermost[node] && c.TotalSamples(node) > 0 {
					self += c.Self(node)
					a.from(node, middle)
				}
			}
		}
		joining.Lock()
		defer joining.Unlock()
		h.Self += self
		all.join(a)
	})
	for _, x := range all.at(0) {
		h.Total = x.Value
	}
	all.write(&h, middle, levels, most)
	return h
}

// from adds one stack with the function in the middle, upwards and downwards.
func (a *around) from(node calltree.NodeID, middle levelFunction) {
	v, k := a.c.Total(node), a.c.TotalSamples(node)
	a.add(middle, v, k)
	below, at := middle, a.t.Parent[node]
	for level := 1; level <= a.levels && at != 0; level++ {
		here := levelFunction{-level, a.t.Function[at]}
		a.add(here, v, k)
		a.link(here, below, v)
		below, at = here, a.t.Parent[at]
	}
	a.down(node, middle, a.levels)
}

type levelFunction struct {
	level    int
	function profile.FunctionID
}

type around struct {
	t      *calltree.Tree
	c      *calltree.Cost
	levels int
	value  [][]Neighbour      // by level from the outermost callers on, and function
	links  []map[uint64]int64 // by level of what is called, and both functions
}

func newAround(t *calltree.Tree, c *calltree.Cost, levels int) *around {
	return &around{t: t, c: c, levels: levels, value: make([][]Neighbour, 2*levels+1), links: make([]map[uint64]int64, 2*levels+1)}
}

// join adds what another one has gathered.
func (a *around) join(b *around) {
	for i, list := range b.value {
		if a.value[i] == nil {
			a.value[i] = list
		} else {
			for f, x := range list {
				a.value[i][f].Value += x.Value
				a.value[i][f].Samples += x.Samples
			}
		}
		if a.links[i] == nil {
			a.links[i] = b.links[i]
		} else {
			for l, v := range b.links[i] {
				a.links[i][l] += v
			}
		}
	}
}

func (a *around) add(p levelFunction, v, samples int64) {
	here := &a.value[p.level+a.levels]
	if *here == nil {
		*here = make([]Neighbour, len(a.t.Profile.Functions))
	}
	x := &(*here)[p.function]
	x.Value += v
	x.Samples += samples
}

func (a *around) link(from, to levelFunction, v int64) {
	here := &a.links[to.level+a.levels]
	if *here == nil {
		*here = map[uint64]int64{}
	}
	(*here)[uint64(from.function)<<32|uint64(to.function)] += v
}

func (a *around) down(n calltree.NodeID, at levelFunction, levels int) {
	if at.level == levels {
		return
	}
	for m := range a.t.Children(n) {
		if a.c.TotalSamples(m) == 0 {
			continue
		}
		to := levelFunction{at.level + 1, a.t.Function[m]}
		a.add(to, a.c.Total(m), a.c.TotalSamples(m))
		a.link(at, to, a.c.Total(m))
		a.down(m, to, levels)
	}
}

// at returns the functions that are on a level.
func (a *around) at(level int) (out []Neighbour) {
	for f, x := range a.value[level+a.levels] {
		if x.Samples > 0 {
			x.Function, x.Level = profile.FunctionID(f), level
			out = append(out, x)
		}
	}
	return out
}

// write puts the largest of each level out, and the rest together.
func (a *around) write(h *Neighbourhood, middle levelFunction, levels, most int) {
	at := map[levelFunction]int{}
	put := func(x Neighbour) int {
		h.Nodes = append(h.Nodes, x)
		return len(h.Nodes) - 1
	}
	for _, x := range a.at(0) {
		at[middle] = put(x)
	}
	for level := 1; level <= levels; level++ {
		for _, side := range []int{-level, level} {
			here := a.at(side)
			sort.Slice(here, func(i, j int) bool {
				if here[i].Value != here[j].Value {
					return here[i].Value > here[j].Value
				}
				return here[i].Function < here[j].Function
			})
			rest := -1
			for i, x := range here {
				if i < most || len(here) == most+1 {
					at[levelFunction{side, x.Function}] = put(x)
					continue
				}
				if rest < 0 {
					rest = put(Neighbour{Level: side})
				}
				r := &h.Nodes[rest]
				r.Value += x.Value
				r.Samples += x.Samples
				r.Others++
				at[levelFunction{side, x.Function}] = rest
			}
		}
	}
	sum := map[[2]int]int64{}
	for i, links := range a.links {
		for l, v := range links {
			from, to := levelFunction{i - a.levels - 1, profile.FunctionID(l >> 32)}, levelFunction{i - a.levels, profile.FunctionID(l & (1<<32 - 1))}
			sum[[2]int{at[from], at[to]}] += v
		}
	}
	for l, v := range sum {
		h.Links = append(h.Links, Link{l[0], l[1], v})
	}
	sortLinks(h.Links)
}

func sortLinks(ls []Link) {
	sort.Slice(ls, func(i, j int) bool {
		if ls[i].Value != ls[j].Value {
			return ls[i].Value > ls[j].Value
		}
		if ls[i].From != ls[j].From {
			return ls[i].From < ls[j].From
		}
		return ls[i].To < ls[j].To
	})
}

// Graph is the call graph of all functions, without its thin parts.
type Graph struct {
	Functions []calltree.FunctionCost
	Links     []Link // by positions in Functions
	// What was left out: functions, thin calls between those that are shown, the
	// self cost of the functions, and the cost of calls from them or to them.
	HiddenFunctions, HiddenLinks int
	HiddenSelf, HiddenCalls      int64
}

// Calls returns the call graph: the functions with the largest total cost, at
// most so many and none below a share of all, and the calls between them that
// carry at least that share. A call within a recursion counts once a stack, with
// the outermost frame of what is called.
func Calls(t *calltree.Tree, c *calltree.Cost, rows []calltree.FunctionCost, most int, share float64) Graph {
	sorted := append([]calltree.FunctionCost(nil), rows...)
	calltree.SortByTotal(sorted)
	least := int64(share * float64(c.Total(0)))
	var g Graph
	at := make([]int32, len(t.Profile.Functions)) // 0: left out, else one more than the position
	for _, r := range sorted {
		if len(g.Functions) < most && r.Total >= max(1, least) {
			g.Functions = append(g.Functions, r)
			at[r.Function] = int32(len(g.Functions))
		} else {
			g.HiddenFunctions++
			g.HiddenSelf += r.Self
		}
	}
	sum := map[[2]int32]int64{}
	for n := calltree.NodeID(1); int(n) < t.Len(); n++ {
		p := t.Parent[n]
		if p == 0 || !t.Outermost[n] || c.TotalSamples(n) == 0 {
			continue
		}
		from, to := at[t.Function[p]], at[t.Function[n]]
		if from == 0 || to == 0 {
			g.HiddenCalls += c.Total(n)
			continue
		}
		sum[[2]int32{from, to}] += c.Total(n)
	}
	for l, v := range sum {
		if v < least {
			g.HiddenLinks++
			continue
		}
		g.Links = append(g.Links, Link{int(l[0] - 1), int(l[1] - 1), v})
	}
	sortLinks(g.Links)
	return g
}
