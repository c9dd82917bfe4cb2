// Package calltree builds the calling-context tree of a profile and answers
// questions over it: which functions are hot, who calls whom, where the cost
// spreads out, and how the tree is laid out as a flame graph.
//
// The tree's shape depends on the profile alone and is built once; the cost of
// its nodes depends on the scope and on the measure and takes one pass over
// the samples and one over the nodes.
//
// A Tree is not changed after it was made, but for what is added up when it is first asked
// for, once, whoever asks; many goroutines may use one. Where a pass is large, its goroutines
// end with the call, and a lock within it joins what they found.
package calltree

import (
	"iter"
	"sync"

	"entelon/core/profile"
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
	NodeOf    []NodeID             // by stack
	end       []NodeID             // by node: the first behind what is below it
	same      []profile.FunctionID // by function: that of its nodes; nil where frames were folded
	// The stacks whose last frame has made a node hang together.
	first []profile.StackID // by node
	with  []profile.StackID // by stack: the next one; 0 for none
	// Scopes are asked about the samples as they were collected: base, and the
	// position there of each sample of Profile; nil where that is its own.
	base     *profile.Profile
	sampleOf []int32
	// Samples are added up by the stack that they end in, its leaf. These are in
	// the order of their nodes, so that what ends below a node stands together:
	// a sum over it is the difference of two running sums.
	samples *leaves
	leaves  []uint32 // positions in samples.stacks; nil where these stand in this order
	leafAt  []uint32 // by node: how many leaves are before those of the node; one more at the end
	stop    []uint32 // by node: how many leaves are before its End
	lower   sync.Once
	names   []string // of functions, for searching
	byFunc  sync.Once
	nodes   []NodeID          // grouped by function
	nodeAt  []uint32          // where a function's begin in nodes
	byLine  func() *stackTree // made when it is first asked for, as are
	tops    func() []profile.FunctionID
	bare    func() []NodeID // without leaves
}

// New builds the tree of p.
func New(p *profile.Profile) *Tree { return build(p, folding{}, nil) }

// NewFolded builds the tree of p without the frames of functions that fold
// reports: what they cost counts as their callers'. Where a stack begins with
// such functions, behind those in which every program or thread begins, the
// outermost of them stands for them.
func NewFolded(p *profile.Profile, fold func(profile.FunctionID) bool) *Tree {
	return build(p, folding{into: fold}, nil)
}

// Runtime reports functions of a language runtime.
func Runtime(p *profile.Profile) func(profile.FunctionID) bool {
	return func(f profile.FunctionID) bool { return p.Functions[f].Kind == profile.KindRuntime }
}

// build builds a tree; samples are those of p by their leaves, where they are
// known.
func build(p *profile.Profile, fold folding, samples *leaves) *Tree {
	t := &Tree{Profile: p, samples: samples, NodeOf: make([]NodeID, p.Stacks.Len())}
	t.byLine, t.tops = sync.OnceValue(t.stackTree), sync.OnceValue(func() []profile.FunctionID { return topsOf(t) })
	t.bare = sync.OnceValue(func() []NodeID { return findBare(t) })
	var group *byStack
	var grouped sync.WaitGroup
	if samples == nil {
		grouped.Go(func() { group = groupSamples(p) })
	}
	if fold.none() {
		grow(t)
	} else {
		foldUp(t, fold)
	}
	findEnds(t)
	markOutermost(t)
	grouped.Wait()
	if samples != nil {
		t.leaves = placeLeaves(t, samples.stacks)
	} else {
		// Adding up goes the same way as the nodes do.
		t.samples = newLeaves(t, group, ownLeaves(t, group))
	}
	return t
}

// EndsStacks reports whether there is a stack that ends in this node.
func (t *Tree) EndsStacks(n NodeID) bool { return t.leafAt[n] != t.leafAt[n+1] }

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

// Len returns the number of nodes, the root included.
func (t *Tree) Len() int { return len(t.Parent) }

// Bytes estimates the memory that the tree holds beside its profile, with what one
// measure and Prepare add to it.
func (t *Tree) Bytes() int64 {
	n := int64(t.Len())*35 + int64(len(t.NodeOf))*16
	if t.leaves == nil { // its samples are its own
		samples := t.samples.profile.Samples.Len()
		n += int64(samples)*20 + int64(len(t.samples.stacks))*(8+12*(1+keptSums)+4*maxParts) // once they are sorted
	}
	return n
}

// CostBytes estimates the memory that a Cost holds.
func (t *Tree) CostBytes() int64 { return int64(len(t.samples.stacks)) * 12 }

// findEnds finds where what is below each node ends.
func findEnds(t *Tree) {
	t.end = make([]NodeID, t.Len())
	for n := t.Len() - 1; n > 0; n-- {
		t.end[n] = max(t.end[n], NodeID(n+1))
		p := t.Parent[n]
		t.end[p] = max(t.end[p], t.end[n])
	}
	t.end[0] = max(t.end[0], 1)
}

// End returns the node behind n and all that is below it.
func (t *Tree) End(n NodeID) NodeID { return t.end[n] }

// Children goes through the nodes called from n, in the order in which they were
// first seen.
func (t *Tree) Children(n NodeID) iter.Seq[NodeID] {
	return func(yield func(NodeID) bool) {
		for m, end := n+1, t.end[n]; m < end; m = t.end[m] {
			if !yield(m) {
				return
			}
		}
	}
}

// markOutermost finds for each node whether its function is above it, too: it
// is while the way through the tree has not come to the End of that one.
func markOutermost(t *Tree) {
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

// Path returns the nodes from the outermost function to n, the root left out.
func (t *Tree) Path(n NodeID) []NodeID {
	out := make([]NodeID, t.Depth[n])
	for ; n != 0; n = t.Parent[n] {
		out[t.Depth[n]-1] = n
	}
	return out
}
