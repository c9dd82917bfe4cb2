package compare

import (
	"math"
	"slices"

	"entelon/core/calltree"
	"entelon/core/compare/match"
	"entelon/core/measure"
	"entelon/core/scope"
)

// CallsOf adds up the calls that a take counted in a scope: those of its measures
// that count the calls of a function.
func CallsOf(t *calltree.Tree, sc scope.Scope) []match.Calls {
	var out []match.Calls
	for m := range t.Profile.Measures {
		w := t.Profile.Words(m)
		if w.Kind == measure.Function && w.Counted {
			out = append(out, match.Calls{Measure: w.Name, Cost: t.Cost(m, sc)})
		}
	}
	return out
}

// Count is how often a function was called at a place, without sampling error.
type Count struct {
	Function int32
	Calls    [2]float64 // mean of the takes, scaled
	Itself   bool       // it is the function at the place, and these are its calls there; else it is called below
}

// Ratio is candidate to baseline, 0 where one side has no call.
func (c Count) Ratio() float64 {
	if c.Calls[0] == 0 {
		return 0
	}
	return c.Calls[1] / c.Calls[0]
}

// Itself reports whether the calls of the suspect's own function were counted.
func (s *Suspect) Itself() bool { return len(s.Counts) > 0 && s.Counts[0].Itself }

// counted is a function whose calls all takes counted.
type counted struct {
	function int32
	cost     [2][]*calltree.Cost // by side and take
}

// countedIn finds the functions whose calls all takes of both sides counted.
func countedIn(r *Result) []counted {
	var out []counted
	for _, first := range r.a[0].Calls {
		c := counted{function: -1}
		all := true
		for side, runs := range r.sides() {
			for i := range runs {
				k := slices.IndexFunc(runs[i].Calls, func(x match.Calls) bool { return x.Measure == first.Measure })
				if k < 0 {
					all = false
					continue
				}
				cost := runs[i].Calls[k].Cost
				c.cost[side] = append(c.cost[side], cost)
				// A call's stack ends in the function itself.
				if rows := calltree.Functions(runs[i].Tree, cost); len(rows) > 0 {
					c.function = r.align.IDs[side][i][rows[0].Function]
				}
			}
		}
		if all && c.function >= 0 {
			out = append(out, c)
		}
	}
	return out
}

// count adds up calls at nodes of all takes, or at and below them.
func (r *Result) count(c *counted, nodes [2][][]calltree.NodeID, below bool) (out [2]float64) {
	for side := range nodes {
		for i, ids := range nodes[side] {
			for _, id := range ids {
				calls := c.cost[side][i].Self(id)
				if below {
					calls = c.cost[side][i].Total(id)
				}
				out[side] += float64(calls) / r.by[side][i] / float64(len(nodes[side]))
			}
		}
	}
	return out
}

// mostCounts is how many functions are told of one suspect.
const mostCounts = 3

// counts tells how often the function at the end of paths was called there, and
// those below it whose number of calls differs.
func (r *Result) counts(paths []found) []Count {
	var out []Count
	for i := range r.counted {
		c := &r.counted[i]
		sum := Count{Function: c.function, Itself: c.function == paths[0].n.Function}
		for _, x := range paths {
			calls := r.count(c, x.n.nodes, !sum.Itself)
			sum.Calls[0] += calls[0]
			sum.Calls[1] += calls[1]
		}
		if sum.Calls != [2]float64{} && (sum.Itself || sum.Calls[0] != sum.Calls[1]) {
			out = append(out, sum)
		}
	}
	slices.SortStableFunc(out, func(a, b Count) int {
		switch {
		case a.Itself != b.Itself && a.Itself:
			return -1
		case a.Itself != b.Itself:
			return 1
		}
		more := func(c Count) float64 { return math.Abs(c.Calls[1] - c.Calls[0]) }
		return int(math.Copysign(1, more(b)-more(a)))
	})
	return out[:min(len(out), mostCounts)]
}

// calledTimes is by which factor the function of a node is called more often
// there; 0 where nobody counted, or where a side has no call.
func (f *finder) calledTimes(n *Both) float64 {
	for i := range f.r.counted {
		if c := &f.r.counted[i]; c.function == n.Function {
			calls := f.r.count(c, n.nodes, false)
			return Count{Calls: calls}.Ratio()
		}
	}
	return 0
}

// byCalls reports whether a node's difference is that of its number of calls.
func (f *finder) byCalls(n *Both) bool {
	times := f.calledTimes(n)
	if times == 0 || n.Total[0] == 0 || math.Abs(difference(n)) < leastShare*f.whole || times < growth && times > 1/growth {
		return false
	}
	each := n.Total[1] / n.Total[0] / times
	return each < alikeWithin && each > 1/alikeWithin
}
