package compare

import (
	"slices"

	"entelon/core/calltree"
	"entelon/core/profile"
)

// LineCost is what a line costs on one side: the means of its takes, in the
// comparison's unit.
type LineCost struct {
	Line        uint32 // 0: the side has no such line
	Self, Total float64
}

// LinePair is a line on both sides.
type LinePair struct {
	Cost [2]LineCost
	Text [2]string
}

// Lines are the lines of a function's file on both sides.
type Lines struct {
	File    [2]string // as the takes have it, "" where a side does not have the function or its file
	Begin   [2]uint32 // where the function begins, 0 if unknown
	Name    [2]string // full
	Unknown [2]LineCost
	Pairs   []LinePair
	ByText  bool // lines stand beside each other by what they say, and not by their numbers
}

// FileOf tells in which file a function of the comparison is on each side, "" where
// that is unknown.
func (r *Result) FileOf(number int32) (files [2]string, begin [2]uint32, names [2]string) {
	for side, runs := range r.sides() {
		for i := range runs {
			p := runs[i].Tree.Profile
			for f, n := range r.align.IDs[side][i] {
				if n != number {
					continue
				}
				fn := p.Functions[f]
				if names[side] == "" {
					names[side] = p.FunctionName(profile.FunctionID(f))
				}
				if file := p.Strings[fn.File]; file != "" && files[side] == "" {
					files[side], begin[side] = file, fn.Line
				}
			}
		}
	}
	return files, begin, names
}

// Lines sets the lines of a function's file beside each other. Sources are the
// texts of the file on each side, nil where they are unknown: then lines that cost
// something stand alone, by their numbers.
func (r *Result) Lines(number int32, sources [2][]string) Lines {
	var out Lines
	out.File, out.Begin, out.Name = r.FileOf(number)
	var costs [2]map[uint32]LineCost
	for side, runs := range r.sides() {
		costs[side] = map[uint32]LineCost{}
		if out.File[side] == "" {
			continue
		}
		for i := range runs {
			by := r.by[side][i] * float64(len(runs))
			for _, l := range calltree.Lines(runs[i].Tree, runs[i].Cost, out.File[side]) {
				c := costs[side][l.Line]
				costs[side][l.Line] = LineCost{l.Line, c.Self + float64(l.Self)/by, c.Total + float64(l.Total)/by}
			}
		}
		out.Unknown[side] = costs[side][0]
		delete(costs[side], 0)
	}
	var order [][2]int
	if sources[0] != nil && sources[1] != nil {
		order = beside(sources[0], sources[1])
		out.ByText = order != nil
	}
	if order == nil {
		order = byNumber(costs, sources)
	}
	for _, at := range order {
		var p LinePair
		for side, i := range at {
			if i < 0 {
				continue
			}
			line := uint32(i + 1)
			p.Cost[side] = costs[side][line]
			p.Cost[side].Line = line
			if i < len(sources[side]) {
				p.Text[side] = sources[side][i]
			}
		}
		out.Pairs = append(out.Pairs, p)
	}
	return out
}

// byNumber sets lines with the same number beside each other: all of a text, and
// of a side without one those that cost something.
func byNumber(costs [2]map[uint32]LineCost, sources [2][]string) [][2]int {
	var lines []int
	for side := range costs {
		for l := range costs[side] {
			lines = append(lines, int(l)-1)
		}
		for i := range sources[side] {
			lines = append(lines, i)
		}
	}
	slices.Sort(lines)
	var out [][2]int
	for _, i := range slices.Compact(lines) {
		at := [2]int{-1, -1}
		for side := range at {
			if _, has := costs[side][uint32(i+1)]; has || i < len(sources[side]) {
				at[side] = i
			}
		}
		out = append(out, at)
	}
	return out
}
