package calltree

import (
	"sort"

	"entelon/core/profile"
	"entelon/core/tally"
)

// Line is one line of a source file with its cost.
type Line struct {
	Line        uint32
	Self, Total int64  // a sample counts once for a line, however often the line is on its stack
	Samples     int64  // of the total
	Calls       []Edge // what the line calls, the costliest first
}

// Lines sums over the samples of a cost what each line of a file costs: itself,
// and with what it calls. Line 0 is where the line is unknown.
func Lines(t *Tree, c *Cost, file string) []Line {
	p := t.Profile
	in := make([]bool, len(p.Functions)) // functions that are in the file
	for f := range p.Functions {
		in[f] = f != 0 && p.Strings[p.Functions[f].File] == file
	}
	same := profile.Canonical(p)
	sum := map[uint32]*Line{}
	calls := map[uint32]map[profile.FunctionID]Edge{}
	at := func(line uint32) *Line {
		l := sum[line]
		if l == nil {
			l = &Line{Line: line}
			sum[line] = l
			calls[line] = map[profile.FunctionID]Edge{}
		}
		return l
	}
	type call struct {
		line uint32
		to   profile.FunctionID
	}
	seen, called := map[uint32]bool{}, map[call]bool{}
	count := func(leaf profile.StackID, x tally.Sum) {
		clear(seen)
		clear(called)
		below := profile.FunctionID(0)
		for s := leaf; s != 0; s = p.Stacks.Parent[s] {
			frame := p.Frames[p.Stacks.Frame[s]]
			if in[frame.Function] {
				l := at(frame.Line)
				if s == leaf {
					l.Self += x.Value
				} else if c := (call{frame.Line, below}); !called[c] {
					called[c] = true
					e := calls[frame.Line][below]
					calls[frame.Line][below] = Edge{below, e.Value + x.Value, e.Samples + x.Samples}
				}
				if !seen[frame.Line] {
					seen[frame.Line] = true
					l.Total += x.Value
					l.Samples += x.Samples
				}
			}
			below = same[frame.Function]
		}
	}
	// What stands below the outermost node of the file stands together.
	for n := NodeID(1); int(n) < t.Len(); n++ {
		if !in[t.Function[n]] {
			continue
		}
		for l := t.leafAt[n]; l < t.stop[n]; l++ {
			if x := c.sum.Between(l, l+1); x.Samples != 0 {
				count(t.leaf(int(l)), x)
			}
		}
		n = t.end[n] - 1
	}
	out := make([]Line, 0, len(sum))
	for line, l := range sum {
		l.Calls = sortedEdges(calls[line])
		out = append(out, *l)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Line < out[j].Line })
	return out
}
