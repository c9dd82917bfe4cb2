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

// Tree is the shape: one node for each distinct path of functions. Nodes are
// numbered as one meets them on the way through the tree, parents before their
// children and siblings in the order in which they were first seen, so that
// what is below a node are the nodes from it up to its End.
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
	end       []NodeID // by node: the first behind what is below it
	children  []NodeID // all nodes but the root, grouped by parent
	begin     []uint32 // where a node's children begin in children
	// Scopes are asked about the samples as they were collected: base, and the
	// position there of each sample of Profile; nil where that is its own.
	base     *profile.Profile
	sampleOf []int32
	// Samples are added up by the stack that they end in, its leaf. These are in
	// the order of their nodes, so that what ends below a node stands together:
	// a sum over it is the difference of two running sums.
	leaves []profile.StackID // the stacks that samples have
	leafOf []uint32          // by sample: the position of its stack in leaves
	leafAt []uint32          // by node: how many leaves are before those of the node; one more at the end
	lower  sync.Once
	names  []string // of functions, for searching
	byFunc sync.Once
	nodes  []NodeID // grouped by function
	nodeAt []uint32 // where a function's begin in nodes
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
	known := newKeyTable(p.Stacks.Len())
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
		n, fresh := known.find(key, NodeID(len(t.Parent)))
		if fresh {
			t.Parent = append(t.Parent, k.parent)
			t.Function = append(t.Function, k.function)
			t.Depth = append(t.Depth, t.Depth[k.parent]+1)
			t.Inlined = append(t.Inlined, true)
			begun = append(begun, begun[k.parent] || !p.Functions[k.function].Entry)
		}
		t.Inlined[n] = t.Inlined[n] && frame.Inlined
		t.NodeOf[s] = n
	}
	t.number()
	t.link()
	t.markOutermost()
	t.markLeaves()
	return t
}

// number gives the nodes, which are in the order in which their stacks were
// found, the numbers in the order of the tree.
func (t *Tree) number() {
	n := t.Len()
	size := make([]NodeID, n) // of the node with all below it
	for i := n - 1; i >= 0; i-- {
		size[i]++
		if i > 0 {
			size[t.Parent[i]] += size[i]
		}
	}
	// Siblings come in the order in which they were found, each behind what is
	// below the one before.
	to, next := make([]NodeID, n), make([]NodeID, n)
	next[0] = 1
	for i := 1; i < n; i++ {
		p := t.Parent[i]
		to[i] = next[p]
		next[p] += size[i]
		next[i] = to[i] + 1
	}
	parent, function, depth, inlined := make([]NodeID, n), make([]profile.FunctionID, n), make([]int32, n), make([]bool, n)
	t.end = make([]NodeID, n)
	for i := range n {
		at := to[i]
		parent[at], function[at], depth[at], inlined[at], t.end[at] = to[t.Parent[i]], t.Function[i], t.Depth[i], t.Inlined[i], at+size[i]
	}
	t.Parent, t.Function, t.Depth, t.Inlined = parent, function, depth, inlined
	for s, i := range t.NodeOf {
		t.NodeOf[s] = to[i]
	}
}

// End returns the node behind n and all that is below it.
func (t *Tree) End(n NodeID) NodeID { return t.end[n] }

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

// markOutermost finds for each node whether its function is above it, too: it
// is while the way through the tree has not come to the End of that one.
func (t *Tree) markOutermost() {
	t.Outermost = make([]bool, t.Len())
	until := make([]NodeID, len(t.Profile.Functions)) // by function
	for n := 1; n < t.Len(); n++ {
		f := t.Function[n]
		if NodeID(n) >= until[f] {
			t.Outermost[n] = true
			until[f] = t.end[n]
		}
	}
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
	has := make([]bool, t.Profile.Stacks.Len())
	for _, s := range t.Profile.Samples.Stack {
		has[s] = true
	}
	t.leafAt = make([]uint32, t.Len()+1)
	for s, is := range has {
		if is {
			t.leafAt[t.NodeOf[s]+1]++
		}
	}
	for i := range t.Len() {
		t.leafAt[i+1] += t.leafAt[i]
	}
	next := append([]uint32(nil), t.leafAt...)
	t.leaves = make([]profile.StackID, t.leafAt[t.Len()])
	at := make([]uint32, len(has))
	for s, is := range has {
		if is {
			n := t.NodeOf[s]
			at[s] = next[n]
			t.leaves[next[n]] = profile.StackID(s)
			next[n]++
		}
	}
	t.leafOf = make([]uint32, len(t.Profile.Samples.Stack))
	for i, s := range t.Profile.Samples.Stack {
		t.leafOf[i] = at[s]
	}
}

// byLeaf adds up one measure over the samples in scope, by t.leaves.
func (t *Tree) byLeaf(measure int, sc scope.Scope) (value, samples []int64) {
	n := len(t.leaves)
	value, samples = make([]int64, n, n+1), make([]int64, n, n+1) // one more for the running sums
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
	Measure int
	tree    *Tree
	value   []int64 // running sums over the tree's leaves, in the measure's unit
	samples []int64 // the same of how many samples of this measure that rests on
}

// Cost adds up one measure over the samples in scope.
func (t *Tree) Cost(measure int, sc scope.Scope) *Cost {
	value, samples := t.byLeaf(measure, sc)
	return &Cost{measure, t, running(value), running(samples)}
}

// running replaces values by the sums of all before each, and adds the sum of all.
func running(values []int64) []int64 {
	sum := int64(0)
	for i, v := range values {
		values[i] = sum
		sum += v
	}
	return append(values, sum)
}

// Total is the cost of a node and all below it, in the measure's unit.
func (c *Cost) Total(n NodeID) int64 {
	return c.value[c.tree.leafAt[c.tree.end[n]]] - c.value[c.tree.leafAt[n]]
}

// Self is the cost of a node alone, in the measure's unit.
func (c *Cost) Self(n NodeID) int64 { return c.value[c.tree.leafAt[n+1]] - c.value[c.tree.leafAt[n]] }

// TotalSamples is how many samples Total rests on.
func (c *Cost) TotalSamples(n NodeID) int64 {
	return c.samples[c.tree.leafAt[c.tree.end[n]]] - c.samples[c.tree.leafAt[n]]
}

// SelfSamples is how many samples Self rests on.
func (c *Cost) SelfSamples(n NodeID) int64 {
	return c.samples[c.tree.leafAt[n+1]] - c.samples[c.tree.leafAt[n]]
}
