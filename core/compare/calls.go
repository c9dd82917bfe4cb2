package compare

import (
	"math"
	"slices"

	"entelon/core/calltree"
	"entelon/core/match"
	"entelon/core/measure"
	"entelon/core/scope"
)

// CallsOf adds up the calls that a take counted in a scope: those of its measures
// that count the calls of a function.
func CallsOf(t *calltree.Tree, sc scope.Scope) []match.Calls {
	var out []match.Calls
	for m := range t.Profile.Measures {
		w := t.Profile.Words(m)
		if w.Name == measure.ExactCalls.Name && w.Counted {
			out = append(out, match.Calls{Measure: w.Name, Cost: t.Cost(m, sc), Every: true})
			continue
		}
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
	every    bool                // it stands for all functions
	cost     [2][]*calltree.Cost // by side and take
}

// of reports whether the calls of a function were counted.
func (c *counted) of(function int32) bool {
	return c.every && function >= 0 || !c.every && c.function == function
}

// countedIn finds the functions whose calls all takes of both sides counted.
func countedIn(r *Result) []counted {
	var out []counted
	for _, first := range r.a[0].Calls {
		c := counted{function: -1, every: first.Every}
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
				if first.Every {
					continue
				}
				if rows := calltree.Functions(runs[i].Tree, cost); len(rows) > 0 {
					c.function = r.align.IDs[side][i][rows[0].Function]
				}
			}
		}
		if all && (c.function >= 0 || c.every) {
			out = append(out, c)
		}
	}
	return out
}

// countBelow adds up calls at nodes of all takes, or at and below them.
func countBelow(r *Result, c *counted, nodes [2][][]calltree.NodeID, below bool) (out [2]float64) {
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

// maxCounts is how many functions are told of one suspect.
const maxCounts = 3

// countsAt tells how often the function at the end of paths was called there, and
// those below it whose number of calls differs.
func countsAt(r *Result, paths []found) []Count {
	var out []Count
	for i := range r.counted {
		c := &r.counted[i]
		if c.every {
			out = append(out, everyCountAt(r, c, paths)...)
			continue
		}
		sum := Count{Function: c.function, Itself: c.function == paths[0].n.Function}
		for _, x := range paths {
			calls := countBelow(r, c, x.n.nodes, !sum.Itself)
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
	return out[:min(len(out), maxCounts)]
}

// everyCountAt tells, where the calls of all functions were counted, how often the function at the
// end of paths was called there, and those that it calls whose number differs.
func everyCountAt(r *Result, c *counted, paths []found) []Count {
	own := Count{Function: paths[0].n.Function, Itself: true}
	below := map[int32]*Count{}
	var order []int32
	for _, x := range paths {
		calls := countBelow(r, c, x.n.nodes, false)
		own.Calls[0] += calls[0]
		own.Calls[1] += calls[1]
		for _, part := range x.n.Parts {
			if part.Function == own.Function {
				continue
			}
			if below[part.Function] == nil {
				below[part.Function] = &Count{Function: part.Function}
				order = append(order, part.Function)
			}
			calls := countBelow(r, c, part.nodes, false)
			below[part.Function].Calls[0] += calls[0]
			below[part.Function].Calls[1] += calls[1]
		}
	}
	var out []Count
	if own.Calls != [2]float64{} {
		out = append(out, own)
	}
	for _, f := range order {
		if n := below[f]; n.Calls[0] != n.Calls[1] {
			out = append(out, *n)
		}
	}
	return out
}

// Split parts the difference of a cost in two: what a function costs more because it is called
// more often, at what a call cost before, and because a call costs more. Together they are the
// difference, to the last unit. ok is unset where the baseline has no call, or nothing was counted.
func Split(cost, calls [2]float64) (byCalls, byEach float64, ok bool) {
	if calls[0] == 0 {
		return 0, 0, false
	}
	byCalls = math.Round((calls[1] - calls[0]) * cost[0] / calls[0])
	return byCalls, cost[1] - cost[0] - byCalls, true
}

// callsOfFunctions is how often each function was called on both sides, a mean of the takes; nil
// where not all of them counted that.
func callsOfFunctions(r *Result) [][2]float64 {
	for i := range r.counted {
		c := &r.counted[i]
		if !c.every {
			continue
		}
		out := make([][2]float64, len(r.align.Names))
		for side, runs := range r.sides() {
			for k := range runs {
				by := r.by[side][k] * float64(len(runs))
				for _, f := range calltree.Functions(runs[k].Tree, c.cost[side][k]) {
					// One that was called and has none of what is compared has no row.
					if id := r.align.IDs[side][k][f.Function]; id >= 0 && int(id) < len(out) {
						out[id][side] += float64(f.Self) / by
					}
				}
			}
		}
		return out
	}
	return nil
}

// calledTimes is by which factor the function of a node is called more often
// there; 0 where nobody counted, or where a side has no call.
func (f *finder) calledTimes(n *Both) float64 {
	for i := range f.r.counted {
		if c := &f.r.counted[i]; c.of(n.Function) {
			calls := countBelow(f.r, c, n.nodes, false)
			return Count{Calls: calls}.Ratio()
		}
	}
	return 0
}

// byCalls reports whether a node's difference is that of its number of calls.
func (f *finder) byCalls(n *Both) bool {
	times := f.calledTimes(n)
	if times == 0 || n.Total[0] == 0 || math.Abs(difference(n)) < minShare*f.whole || times < growth && times > 1/growth {
		return false
	}
	each := n.Total[1] / n.Total[0] / times
	return each < alikeWithin && each > 1/alikeWithin
}
