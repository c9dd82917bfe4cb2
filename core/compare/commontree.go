package compare

import (
	"sort"

	"entelon/core/calltree"
	"entelon/core/match"
	"entelon/core/profile"
	"entelon/core/statistics"
)

// Both is a node of the trees of all takes in one: a path of functions, by those
// that are one on both sides. Nodes of little weight are not there; what they
// cost is the difference between a node's total and its parts.
type Both struct {
	Function int32 // the number of the function in the comparison; -1 for the root
	Inlined  [2]bool
	Total    [2]float64 // mean of the takes, scaled
	Self     [2]float64
	Samples  [2]int64 // that Total rests on, of all takes
	Parts    []*Both  // what it calls, the largest on either side first

	nodes [2][][]calltree.NodeID // by side and take
}

// Both merges the trees of all takes. Paths that have less than a share of the
// whole on both sides are left out.
func (r *Result) Both(least float64) *Both {
	root := &Both{Function: -1}
	for side, runs := range r.sides() {
		root.nodes[side] = make([][]calltree.NodeID, len(runs))
		for i := range runs {
			root.nodes[side][i] = []calltree.NodeID{0}
		}
	}
	weigh(r, root)
	expand(r, root, least*max(root.Total[0], root.Total[1]), 0)
	return root
}

func (r *Result) sides() [2][]match.Run { return [2][]match.Run{r.a, r.b} }

// weigh adds up what a node costs.
func weigh(r *Result, n *Both) {
	for side, runs := range r.sides() {
		inlined, seen := true, false
		for i := range runs {
			run, by := &runs[i], r.by[side][i]*float64(len(runs))
			for _, id := range n.nodes[side][i] {
				n.Total[side] += float64(run.Cost.Total(id)) / by
				n.Self[side] += float64(run.Cost.Self(id)) / by
				n.Samples[side] += run.Cost.TotalSamples(id)
				inlined, seen = inlined && run.Tree.Inlined[id], true
			}
		}
		n.Inlined[side] = inlined && seen
	}
}

// deepest bounds how deep a merged tree goes, so that a wild recursion does not
// end ours.
const deepest = 2000

func expand(r *Result, n *Both, least float64, depth int) {
	if depth == deepest {
		return
	}
	parts := map[int32]*Both{}
	for side, runs := range r.sides() {
		for i := range runs {
			run, ids := &runs[i], r.align.IDs[side][i]
			for _, id := range n.nodes[side][i] {
				for m := range run.Tree.Children(id) {
					if run.Cost.TotalSamples(m) == 0 {
						continue
					}
					f := ids[run.Tree.Function[m]]
					p := parts[f]
					if p == nil {
						p = &Both{Function: f}
						for s, rs := range r.sides() {
							p.nodes[s] = make([][]calltree.NodeID, len(rs))
						}
						parts[f] = p
					}
					p.nodes[side][i] = append(p.nodes[side][i], m)
				}
			}
		}
	}
	for _, p := range parts {
		weigh(r, p)
		if max(p.Total[0], p.Total[1]) >= least {
			n.Parts = append(n.Parts, p)
		}
	}
	sort.Slice(n.Parts, func(i, j int) bool {
		x, y := n.Parts[i], n.Parts[j]
		if a, b := max(x.Total[0], x.Total[1]), max(y.Total[0], y.Total[1]); a != b {
			return a > b
		}
		return x.Function < y.Function
	})
	for _, p := range n.Parts {
		expand(r, p, least, depth+1)
	}
}

// Name is the full name of a function of the comparison, as the candidate has it
// where it does; "" for the root.
func (r *Result) Name(function int32) string {
	if function < 0 {
		return ""
	}
	return r.align.Names[function].Name
}

// Kind is whose code a function is.
func (r *Result) Kind(function int32) profile.ModuleKind {
	if row := r.row(function); row != nil {
		return row.Kind
	}
	return profile.KindUnknown
}

// Row is that of a function, nil for the root.
func (r *Result) Row(function int32) *Row { return r.row(function) }

func (r *Result) row(function int32) *Row {
	if function < 0 {
		return nil
	}
	return &r.Rows[r.rowOf[function]]
}

// figures are what a node costs in each take, scaled, less some of its parts.
func (r *Result) figures(n *Both, less []*Both) (c [2]statistics.Quantity) {
	for side, runs := range r.sides() {
		c[side].Value, c[side].Scale = make([]float64, len(runs)), r.scaleOf(side)
		for i := range runs {
			add := func(ids []calltree.NodeID, sign float64) {
				for _, id := range ids {
					c[side].Value[i] += sign * float64(runs[i].Cost.Total(id)) / r.by[side][i]
					c[side].Samples += sign * float64(runs[i].Cost.TotalSamples(id))
				}
			}
			add(n.nodes[side][i], 1)
			for _, p := range less {
				add(p.nodes[side][i], -1)
			}
		}
	}
	unblock(r, &c[0], &c[1])
	return c
}

// Caller is the nearest of the program's own functions that call a suspect, else
// whatever calls it; -1 where nothing does.
func (r *Result) Caller(s Suspect) int32 {
	for i := len(s.Path) - 2; i >= 0; i-- {
		if k := r.Kind(s.Path[i]); k == profile.KindOwn || k == profile.KindInterpreter || k == profile.KindJIT {
			return s.Path[i]
		}
	}
	if len(s.Path) > 1 {
		return s.Path[len(s.Path)-2]
	}
	return -1
}
