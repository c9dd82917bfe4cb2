package lanes

import (
	"sort"

	"entelon/core/profile"
)

// Bar is a function on the sampled path of a thread, for as long as one sample after the other
// had it there. What was between the samples is not known: it may have been one call or many.
type Bar struct {
	From, To int64 // To is the last sample's time; From is a sample's length before the first one's
	Depth    int   // 0 is the outermost
	Function profile.FunctionID
	Samples  int
	Count    int // how many bars are gathered in it, each too short to be drawn; 1: it is one
	largest  int // samples of the one whose function it has
}

// MaxDepth is how many levels of a path are drawn, from the outermost on.
const MaxDepth = 60

// seenIn returns which of a lane's samples are in a stretch of time.
func (x *Index) seenIn(l *Lane, from, to int64) (first, last int) {
	times := x.p.Samples.Time
	first = sort.Search(len(l.seen), func(i int) bool { return times[l.seen[i]] >= from })
	last = sort.Search(len(l.seen), func(i int) bool { return times[l.seen[i]] >= to })
	return first, last
}

// Seen returns the times of a thread's samples of processor time between two times. keep chooses
// them; nil keeps all.
func (x *Index) Seen(lane int, from, to int64, keep func(sample int) bool) []int64 {
	l := &x.Lanes[lane]
	first, last := x.seenIn(l, from, to)
	out := make([]int64, 0, last-first)
	for _, s := range l.seen[first:last] {
		if keep == nil || keep(int(s)) {
			out = append(out, x.p.Samples.Time[s])
		}
	}
	return out
}

// Bars returns the sampled path of a thread between two times, the outer bars before what is
// within them. Bars that are shorter than one of so many equal parts of the time are gathered.
// keep chooses samples; nil keeps all.
func (x *Index) Bars(lane int, from, to int64, parts int, keep func(sample int) bool) []Bar {
	l := &x.Lanes[lane]
	first, last := x.seenIn(l, from, to)
	width := max(1, (to-from)/int64(max(1, parts)))
	p := x.p
	b := barring{width: width}
	var path []profile.FunctionID
	for _, s := range l.seen[first:last] {
		if keep != nil && !keep(int(s)) {
			continue
		}
		path = path[:0]
		p.Walk(p.Samples.Stack[s], func(f profile.FrameID) { path = append(path, p.Frames[f].Function) })
		for i, j := 0, len(path)-1; i < j; i, j = i+1, j-1 {
			path[i], path[j] = path[j], path[i]
		}
		at := p.Samples.Time[s]
		if at-b.before > x.Tick*5/2 {
			b.close(0) // there was a pause
		}
		b.see(path[:min(len(path), MaxDepth)], max(from, at-x.Tick), at)
	}
	b.close(0)
	var out []Bar
	for _, bars := range b.done {
		out = append(out, bars...)
	}
	return out
}

// barring makes bars of samples. Bars that have ended are gathered at once, so that there are never
// more of them than can be drawn.
type barring struct {
	width  int64
	open   []Bar // by depth
	done   [MaxDepth][]Bar
	before int64 // time of the sample before
}

func (b *barring) see(path []profile.FunctionID, from, at int64) {
	same := 0
	for same < len(path) && same < len(b.open) && b.open[same].Function == path[same] {
		same++
	}
	b.close(same)
	for d := range b.open {
		b.open[d].To = at
		b.open[d].Samples++
	}
	for d := same; d < len(path); d++ {
		b.open = append(b.open, Bar{From: max(from, b.before), To: at, Depth: d, Function: path[d], Samples: 1, Count: 1})
	}
	b.before = at
}

// close ends the bars from a depth on. One that is too short to be drawn is put together with the
// one before it on the same depth, where that is, too.
func (b *barring) close(depth int) {
	for d := depth; d < len(b.open); d++ {
		x, done := b.open[d], &b.done[d]
		x.largest = x.Samples
		n := len(*done) - 1
		if n < 0 || x.To-x.From >= b.width || x.From-(*done)[n].To >= b.width || (*done)[n].Count == 1 && (*done)[n].To-(*done)[n].From >= b.width {
			*done = append(*done, x)
			continue
		}
		o := &(*done)[n]
		o.To, o.Count = x.To, o.Count+1
		if o.largest < x.Samples {
			o.largest, o.Function = x.Samples, x.Function
		}
		o.Samples += x.Samples
	}
	b.open = b.open[:min(depth, len(b.open))]
}
