// Package tree builds the calling-context tree of a profile and answers
// questions over it: which functions are hot, who calls whom, where the cost
// spreads out, and how the tree is laid out as a flame graph.
//
// The tree's shape depends on the profile alone and is built once; the cost of
// its nodes depends on the scope and on the measure and takes one pass over
// the samples and one over the nodes.
package tree

import (
	"sync"

	"entelon/core/profile"
	"entelon/core/scope"
)

// NodeID is a position in the columns of a Tree. Node 0 is the root. The
// number of a node is the same whenever the tree of one profile is built.
type NodeID uint32

// Tree is the shape: one node for each distinct path of functions. Parents
// come before their children.
type Tree struct {
	Profile  *profile.Profile
	Parent   []NodeID
	Function []profile.FunctionID // 0 for the root
	Depth    []int32              // 0 for the root
	Inlined  []bool               // every frame that made the node was inlined
	// Outermost is set where no node above is of the same function. Total
	// costs of a function are summed over these, so recursion counts once.
	Outermost []bool
	NodeOf    []NodeID // by stack
	children  []NodeID // all nodes but the root, grouped by parent
	begin     []uint32 // where a node's children begin in children
	// Scopes are asked about the samples as they were collected: base, and the
	// position there of each sample of Profile; nil where that is its own.
	base     *profile.Profile
	sampleOf []int32
	// Samples are added up by the stack that they end in before the tree is
	// touched: these are few beside the nodes, and stay in the processor's cache.
	leaves []profile.StackID // the stacks that samples have, in their order
	lower  sync.Once
	names  []string // of functions, for searching
	leafOf []uint32 // by sample: the position of its stack in leaves
}

type nodeKey struct {
	parent   NodeID
	function profile.FunctionID
}

// New builds the tree of p.
func New(p *profile.Profile) *Tree { return build(p, folding{}) }

// NewFolded builds the tree of p without the frames of functions that fold
// reports: what they cost counts as their callers'. Where a stack begins with
// such functions, behind those in which every program or thread begins, the
// outermost of them stands for them.
func NewFolded(p *profile.Profile, fold func(profile.FunctionID) bool) *Tree {
	return build(p, folding{into: fold})
}

// Runtime reports functions of a language runtime.
func Runtime(p *profile.Profile) func(profile.FunctionID) bool {
	return func(f profile.FunctionID) bool { return p.Functions[f].Kind == profile.KindRuntime }
}

func build(p *profile.Profile, fold folding) *Tree {
	same := canonical(p)
	t := &Tree{
		Profile:  p,
		Parent:   make([]NodeID, 1, p.Stacks.Len()),
		Function: make([]profile.FunctionID, 1, p.Stacks.Len()), Depth: make([]int32, 1, p.Stacks.Len()), Inlined: make([]bool, 1, p.Stacks.Len()),
		NodeOf: make([]NodeID, p.Stacks.Len()),
	}
	known := newKeyTable(p.Stacks.Len() / 2)
	begun := make([]bool, 1, p.Stacks.Len()) // by node: something is above that not every program begins with
	for s := 1; s < p.Stacks.Len(); s++ {
		frame := p.Frames[p.Stacks.Frame[s]]
		k := nodeKey{t.NodeOf[p.Stacks.Parent[s]], same[frame.Function]}
		if fold.into != nil && begun[k.parent] && fold.into(k.function) ||
			fold.below != nil && k.parent != 0 && fold.below(k.function) && fold.below(t.Function[k.parent]) {
			t.NodeOf[s] = k.parent
			continue
		}
		if fold.merge {
			if n := t.above(k.parent, k.function); n != 0 {
				t.NodeOf[s] = n
				continue
			}
		}
		key := uint64(k.parent)<<32 | uint64(k.function)
		n, ok := known.get(key)
		if !ok {
			n = NodeID(len(t.Parent))
			known.put(key, n)
			t.Parent = append(t.Parent, k.parent)
			t.Function = append(t.Function, k.function)
			t.Depth = append(t.Depth, t.Depth[k.parent]+1)
			t.Inlined = append(t.Inlined, true)
			begun = append(begun, begun[k.parent] || !p.Functions[k.function].Entry)
		}
		t.Inlined[n] = t.Inlined[n] && frame.Inlined
		t.NodeOf[s] = n
	}
	t.link()
	t.markOutermost()
	t.markLeaves()
	return t
}

// above returns the nearest node of a function on the way from a node to the
// root, that node included; 0 where there is none.
func (t *Tree) above(n NodeID, f profile.FunctionID) NodeID {
	for ; n != 0 && t.Function[n] != f; n = t.Parent[n] {
	}
	return n
}

// canonical maps every function to the first one with its name and module, so
// that one function that was described in two ways is one.
func canonical(p *profile.Profile) []profile.FunctionID {
	type key struct {
		name   profile.StringID
		module profile.ModuleID
	}
	first := make(map[key]profile.FunctionID, len(p.Functions))
	out := make([]profile.FunctionID, len(p.Functions))
	for i, f := range p.Functions {
		k := key{f.Name, f.Module}
		id, ok := first[k]
		if !ok {
			id = profile.FunctionID(i)
			first[k] = id
		}
		out[i] = id
	}
	return out
}

// Len returns the number of nodes, the root included.
func (t *Tree) Len() int { return len(t.Parent) }

// link groups the nodes by parent.
func (t *Tree) link() {
	t.begin = make([]uint32, t.Len()+1)
	for _, p := range t.Parent[1:] {
		t.begin[p+1]++
	}
	for i := range t.Len() {
		t.begin[i+1] += t.begin[i]
	}
	next := append([]uint32(nil), t.begin...)
	t.children = make([]NodeID, t.Len()-1)
	for n := 1; n < t.Len(); n++ {
		p := t.Parent[n]
		t.children[next[p]] = NodeID(n)
		next[p]++
	}
}

// Children returns the nodes called from n, in the order in which they were
// first seen. The slice must not be changed.
func (t *Tree) Children(n NodeID) []NodeID { return t.children[t.begin[n]:t.begin[n+1]] }

// markOutermost walks the tree once, with a count of the functions on the way.
func (t *Tree) markOutermost() {
	t.Outermost = make([]bool, t.Len())
	onPath := make([]uint32, len(t.Profile.Functions))
	t.each(0, func(n NodeID) bool {
		f := t.Function[n]
		t.Outermost[n] = onPath[f] == 0 && n != 0
		onPath[f]++
		return true
	}, func(n NodeID) { onPath[t.Function[n]]-- })
}

// each visits the nodes below and including from, parents first. Where enter
// returns false the children are left out. leave may be nil.
func (t *Tree) each(from NodeID, enter func(NodeID) bool, leave func(NodeID)) {
	type step struct {
		node NodeID
		next uint32
	}
	if !enter(from) {
		return
	}
	way := []step{{from, t.begin[from]}}
	for len(way) > 0 {
		top := &way[len(way)-1]
		if top.next == t.begin[top.node+1] {
			if leave != nil {
				leave(top.node)
			}
			way = way[:len(way)-1]
			continue
		}
		child := t.children[top.next]
		top.next++
		if enter(child) {
			way = append(way, step{child, t.begin[child]})
		}
	}
}

// Path returns the nodes from the outermost function to n, the root left out.
func (t *Tree) Path(n NodeID) []NodeID {
	out := make([]NodeID, t.Depth[n])
	for ; n != 0; n = t.Parent[n] {
		out[t.Depth[n]-1] = n
	}
	return out
}

func (t *Tree) markLeaves() {
	at := make([]uint32, t.Profile.Stacks.Len())
	t.leafOf = make([]uint32, len(t.Profile.Samples.Stack))
	for i, s := range t.Profile.Samples.Stack {
		if at[s] == 0 {
			t.leaves = append(t.leaves, s)
			at[s] = uint32(len(t.leaves))
		}
		t.leafOf[i] = at[s] - 1
	}
}

// byLeaf adds up one measure over the samples in scope, by t.leaves.
func (t *Tree) byLeaf(measure int, sc scope.Scope) (value, samples []int64) {
	value, samples = make([]int64, len(t.leaves)), make([]int64, len(t.leaves))
	values := t.Profile.Samples.Values[measure]
	in := t.in(sc)
	if in == nil {
		for i, v := range values {
			if v != 0 { // else it was taken for another measure
				l := t.leafOf[i]
				value[l] += v
				samples[l]++
			}
		}
		return value, samples
	}
	for i, v := range values {
		if in[i] && v != 0 {
			l := t.leafOf[i]
			value[l] += v
			samples[l]++
		}
	}
	return value, samples
}

// in tells of each sample of t.Profile whether it is in a scope; nil is all.
func (t *Tree) in(sc scope.Scope) []bool {
	if sc.All() {
		return nil
	}
	if t.base == nil {
		return sc.Select(t.Profile)
	}
	all := sc.Select(t.base)
	if t.sampleOf == nil {
		return all
	}
	out := make([]bool, len(t.sampleOf))
	for i, at := range t.sampleOf {
		out[i] = all[at]
	}
	return out
}

// Cost is what the samples in a scope add up to, by node.
type Cost struct {
	Self, Total               []int64 // in the measure's unit
	SelfSamples, TotalSamples []int64 // how many samples of this measure that rests on
	Measure                   int
}

// Cost adds up one measure over the samples in scope.
func (t *Tree) Cost(measure int, sc scope.Scope) *Cost {
	n := t.Len()
	c := &Cost{Measure: measure}
	value, samples := t.byLeaf(measure, sc)
	spread := func(of []int64) (self, total []int64) {
		self, total = make([]int64, n), make([]int64, n)
		for l, s := range t.leaves {
			self[t.NodeOf[s]] += of[l]
		}
		copy(total, self)
		for i := n - 1; i > 0; i-- {
			if v := total[i]; v != 0 {
				total[t.Parent[i]] += v
			}
		}
		return self, total
	}
	// Values and numbers of samples are two things that two processors can do.
	var both sync.WaitGroup
	both.Go(func() { c.SelfSamples, c.TotalSamples = spread(samples) })
	c.Self, c.Total = spread(value)
	both.Wait()
	return c
}
