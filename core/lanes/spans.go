package lanes

import (
	"cmp"
	"slices"
	"sort"

	"entelon/core/profile"
)

// MaxSpanLevels is how many spans of one lane are drawn below each other. Those that are in more others,
// or overlap more, stand on the last one.
const MaxSpanLevels = 5

// SpanRun is a span in a lane, or several that are too short to be drawn.
type SpanRun struct {
	From, To int64
	Level    int // 0 is the outermost
	Name     profile.FunctionID
	Interval int // position among the profile's intervals; -1: several
	Count    int // how many are gathered in it; 1: it is one, with its exact bounds
}

// spanRows are the spans of all lanes: for each thread and level in the order of their times.
type spanRows struct {
	of    map[profile.ThreadID]*spanLanes
	bytes int64
}

type spanLanes struct {
	levels [MaxSpanLevels][]int32 // positions among the intervals
	used   int
	before [MaxSpanLevels]int64 // while it is filled: when the last one of a level ends
}

// newSpanRows puts spans below each other: one that is in another one below that.
func newSpanRows(p *profile.Profile) spanRows {
	v := &p.Intervals
	out := spanRows{of: map[profile.ThreadID]*spanLanes{}}
	var all []int32
	for i, k := range v.Kind {
		if k == profile.IntervalSpan {
			all = append(all, int32(i))
		}
	}
	slices.SortFunc(all, func(a, b int32) int {
		return cmp.Or(cmp.Compare(v.Start[a], v.Start[b]), cmp.Compare(v.Duration[b], v.Duration[a]), cmp.Compare(a, b))
	})
	for _, i := range all {
		l := out.of[v.Thread[i]]
		if l == nil {
			l = &spanLanes{}
			out.of[v.Thread[i]] = l
		}
		level := 0
		for level < MaxSpanLevels-1 && l.before[level] > v.Start[i] {
			level++
		}
		l.levels[level] = append(l.levels[level], i)
		l.before[level] = max(l.before[level], v.Start[i]+v.Duration[i])
		l.used = max(l.used, level+1)
	}
	out.bytes = int64(len(all))*4 + int64(len(out.of))*200
	return out
}

// SpanLevelsOf is how many levels the spans of a lane need.
func SpanLevelsOf(x *Index, lane int) int {
	if l := x.spans.of[x.Lanes[lane].Thread]; l != nil {
		return l.used
	}
	return 0
}

// Spans returns the spans of a lane between two times. Of those of one level that are shorter than one
// of so many equal parts of the time, neighbours are gathered.
func (x *Index) Spans(lane int, from, to int64, parts int) (out []SpanRun) {
	l := x.spans.of[x.Lanes[lane].Thread]
	if l == nil {
		return nil
	}
	v := &x.p.Intervals
	width := max(1, (to-from)/int64(max(1, parts)))
	for level, of := range l.levels[:l.used] {
		// On the last level spans may overlap, so that the first one in view need not be the last to begin before.
		first := sort.Search(len(of), func(k int) bool { return v.Start[of[k]]+v.Duration[of[k]] > from })
		at := len(out)
		for _, i := range of[first:] {
			begin, end := v.Start[i], v.Start[i]+v.Duration[i]
			if begin >= to {
				break
			}
			if end < from {
				continue
			}
			if n := len(out) - 1; n >= at && end-begin < width && begin-out[n].To < width && (out[n].Count > 1 || out[n].To-out[n].From < width) {
				out[n].To, out[n].Count, out[n].Interval = max(out[n].To, end), out[n].Count+1, -1
				continue
			}
			out = append(out, SpanRun{From: begin, To: end, Level: level, Name: x.p.FunctionOf(v.Stack[i]), Interval: int(i), Count: 1})
		}
	}
	return out
}
