package calltree

import (
	"sort"

	"entelon/core/profile"
)

// Origin says how the frames of a function came to be. All values are in the
// measure's unit and count a sample once, at the outermost frame of the
// function.
type Origin struct {
	Total   int64
	Into    []Edge       // the functions that it was inlined into, the heaviest first
	Inlined int64        // their sum; the rest of the total has code of its own
	Found   []FoundValue // how the walk got to it
	Callers []FoundValue // how it got from there to the frame that called it
	Lines   []LineValue  // which lines it was at
	CutOff  int64        // in stacks whose outer end is unknown
}

// FoundValue is the part of a cost whose frames were found in one way.
type FoundValue struct {
	Found profile.Found
	Value int64
}

// LineValue is the part of a cost at one line; line 0 is unknown.
type LineValue struct {
	Line  uint32
	Value int64
}

// OriginOf sums over the samples of a cost.
func OriginOf(t *Tree, c *Cost, f profile.FunctionID) Origin {
	p, st, sum := t.Profile, t.byLine(), c.byLine()
	var o Origin
	into := map[profile.FunctionID]Edge{}
	found, callers := map[profile.Found]int64{}, map[profile.Found]int64{}
	lines := map[uint32]int64{}
	add := func(s profile.StackID, cut bool) {
		x := sum.Between(st.at[s], st.stop[s])
		if x.Samples == 0 {
			return
		}
		v := x.Value
		frame := p.Frames[p.Stacks.Frame[s]]
		o.Total += v
		found[frame.Found] += v
		lines[frame.Line] += v
		if cut {
			o.CutOff += v
		}
		around := s
		for around != 0 && p.Frames[p.Stacks.Frame[around]].Inlined {
			around = p.Stacks.Parent[around]
		}
		if frame.Inlined {
			k := t.Function[t.NodeOf[around]]
			e := into[k]
			into[k] = Edge{k, e.Value + v, e.Samples + x.Samples}
			o.Inlined += v
		}
		if caller := p.Stacks.Parent[around]; around != 0 && caller != 0 {
			if c := p.Frames[p.Stacks.Frame[caller]]; p.Functions[c.Function].Kind != profile.KindMark {
				callers[c.Found] += v
			}
		}
	}
	for _, n := range t.NodesOf(f) {
		if !t.Outermost[n] || c.TotalSamples(n) == 0 {
			continue
		}
		for s := t.first[n]; s != 0; s = t.with[s] {
			add(s, st.cut[n])
		}
	}
	o.Into = sortedEdges(into)
	o.Found, o.Callers = foundValues(found), foundValues(callers)
	for line, v := range lines {
		o.Lines = append(o.Lines, LineValue{line, v})
	}
	sort.Slice(o.Lines, func(i, j int) bool {
		if o.Lines[i].Value != o.Lines[j].Value {
			return o.Lines[i].Value > o.Lines[j].Value
		}
		return o.Lines[i].Line < o.Lines[j].Line
	})
	return o
}

func foundValues(sum map[profile.Found]int64) []FoundValue {
	var out []FoundValue
	for f, v := range sum {
		out = append(out, FoundValue{f, v})
	}
	sort.Slice(out, func(i, j int) bool {
		if out[i].Value != out[j].Value {
			return out[i].Value > out[j].Value
		}
		return out[i].Found < out[j].Found
	})
	return out
}
