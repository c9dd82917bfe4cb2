// Package reading writes the plain sentences that stand above a take: what
// dominates, and where the cost stops being in one place.
//
// A Reader is not changed after it was made; many goroutines may use it.
package reading

import (
	"fmt"

	"entelon/core/calltree"
	"entelon/core/profile"
)

// Part is a piece of a sentence; Function is set where it names one.
type Part struct {
	Text     string
	Function profile.FunctionID
}

// spreads is the share of its parent that the heaviest child must have for
// the cost to be still in one place.
const spreads = 0.5

// Reader reads one tree in many scopes: what depends on names alone is found
// out once.
type Reader struct {
	tree   *calltree.Tree
	parts  []part
	idling []calltree.NodeID
}

// New makes a reader of a tree; it takes one pass over its nodes.
func New(t *calltree.Tree) *Reader {
	parts, idling := classify(t)
	return &Reader{t, parts, idling}
}

// Take says where the cost of a take is, in a few sentences. Rows are the
// tree's functions with that cost, the largest self cost first.
func (r *Reader) Take(c *calltree.Cost, rows []calltree.FunctionCost) []Part {
	t := r.tree
	total := c.Total(0)
	if total == 0 || len(rows) == 0 {
		if t.Profile.Words(c.Measure).Name == "cpu" {
			return []Part{{Text: "There is no cost in this scope: the program used next to no processor time."}}
		}
		return []Part{{Text: fmt.Sprintf("There is no cost in this scope: no %s.", t.Profile.Words(c.Measure).Label)}}
	}
	share := func(v int64) string { return percent(float64(v) / float64(total)) }
	name := func(f profile.FunctionID) Part { return Part{profile.Short(t.Profile.FunctionName(f)), f} }
	top := rows[0]
	words, has := t.Profile.Words(c.Measure), "has"
	if words.Unit == "ns" {
		has = "takes"
	}
	out := []Part{name(top.Function), {Text: fmt.Sprintf(" itself %s %s of the %s", has, share(top.Self), words.Label)}}
	if t.Profile.Functions[top.Function].Kind == profile.KindMark {
		// A mark is what time went to, not who spent it.
		out = []Part{{Text: fmt.Sprintf("%s of the %s: ", share(top.Self), words.Label)}, name(top.Function)}
		if f, v := under(t, c, top.Function); f != 0 {
			out = append(out, Part{Text: ", " + most(float64(v)/float64(max(1, top.Self))) + " in "}, name(f))
		}
	} else if callers := calltree.Callers(t, c, top.Function); len(callers) > 0 && callers[0].Function != 0 {
		first := callers[0]
		out = append(out, Part{Text: ", " + most(float64(first.Value)/float64(max(1, top.Total))) + " when called by "}, name(first.Function))
	}
	out = append(out, Part{Text: ". "})
	if n := calltree.SpreadPoint(t, c, spreads); n != 0 {
		at := t.Function[n]
		busy := 0
		for m := range t.Children(n) {
			if c.Total(m)*100 >= c.Total(n) {
				busy++
			}
		}
		switch {
		case busy <= 1:
			out = append(out, Part{Text: "One path leads straight to "}, name(at), Part{Text: fmt.Sprintf(", with %s.", share(c.Total(n)))})
		default:
			// Each step holds half of the one before, which may be little of all.
			way := "The cost stays on one path down to "
			if float64(c.Total(n)) < spreads*float64(total) {
				way = "The heaviest path leads to "
			}
			out = append(out, Part{Text: way}, name(at),
				Part{Text: fmt.Sprintf(" (%s) and spreads out there over %s.", share(c.Total(n)), count(busy, "callee"))})
		}
	} else {
		out = append(out, Part{Text: "No single path holds half of it."})
	}
	if words.Unit != "ns" {
		return out // whose code a byte or a call is in says little
	}
	out = append(out, ownership(t.Profile, total, rows)...)
	return append(out, r.looksLike(c)...)
}

// under returns the function of the program that a mark stands below with the
// most cost, nearest to the mark, and that cost.
func under(t *calltree.Tree, c *calltree.Cost, mark profile.FunctionID) (best profile.FunctionID, value int64) {
	sum := map[profile.FunctionID]int64{}
	for _, n := range t.NodesOf(mark) {
		if c.Self(n) == 0 {
			continue
		}
		at := t.Parent[n]
		for at != 0 {
			if k := t.Profile.Functions[t.Function[at]].Kind; k != profile.KindKernel && k != profile.KindMark {
				break
			}
			at = t.Parent[at]
		}
		if at != 0 {
			sum[t.Function[at]] += c.Self(n)
		}
	}
	for f, v := range sum {
		if v > value || v == value && f < best {
			best, value = f, v
		}
	}
	return best, value
}

func most(share float64) string {
	switch {
	case share > 0.995:
		return "always"
	case share >= 0.5:
		return percent(share) + " of that"
	}
	return "most often (" + percent(share) + ")"
}

func count(n int, what string) string {
	if n == 1 {
		return "one " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

func percent(v float64) string {
	if v >= 0.0995 {
		return fmt.Sprintf("%.0f %%", 100*v)
	}
	return fmt.Sprintf("%.1f %%", 100*v)
}
