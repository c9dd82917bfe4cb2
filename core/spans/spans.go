// Package spans looks at the spans of a take by their names: how long they were, when, which were slow,
// and what they were slow for.
//
// An Index is made once and may be read by many goroutines.
package spans

import (
	"cmp"
	"math"
	"slices"
	"sort"

	"entelon/core/measure"
	"entelon/core/profile"
)

// Span is one.
type Span struct {
	Interval int // position among the profile's intervals
	From, To int64
	Thread   profile.ThreadID // or goroutine
	Open     bool             // it had no end when the take ended
}

// Duration is how long it was, in nanoseconds.
func (s Span) Duration() int64 { return s.To - s.From }

// Name is all spans of one name. Those without an end have no known duration, and are in no figure: a
// call that an exception left looks like one that goes on.
type Name struct {
	Name  string
	Spans []Span // in the order in which they began
	Total int64  // nanoseconds
	Open  int    // of them, those without an end

	durations []int64 // ascending
}

// Index is the spans of a take.
type Index struct {
	Names []Name // those that took longest together first
	// Known: what threads did is, so that it can be told what spans were slow for.
	Known bool
}

// New gathers the spans of a profile.
func New(p *profile.Profile) *Index {
	v := &p.Intervals
	open := map[uint32]bool{}
	for _, at := range p.AttributeNamed(profile.AttributeOpen).Interval {
		open[at] = true
	}
	names := map[profile.FunctionID]int{}
	x := &Index{}
	for i, k := range v.Kind {
		if k == profile.IntervalWait || k == profile.IntervalReady {
			x.Known = true
		}
		if k != profile.IntervalSpan {
			continue
		}
		f := p.FunctionOf(v.Stack[i])
		n, met := names[f]
		if !met {
			n = len(x.Names)
			names[f] = n
			x.Names = append(x.Names, Name{Name: profile.SpanNameOf(p, f)})
		}
		name := &x.Names[n]
		s := Span{Interval: i, From: v.Start[i], To: v.Start[i] + v.Duration[i], Thread: v.Thread[i], Open: open[uint32(i)]}
		name.Spans = append(name.Spans, s)
		if s.Open {
			name.Open++
		} else {
			name.Total += s.Duration()
		}
	}
	for i := range x.Names {
		n := &x.Names[i]
		slices.SortStableFunc(n.Spans, func(a, b Span) int { return cmp.Compare(a.From, b.From) })
		n.durations = durations(n.Spans)
	}
	slices.SortStableFunc(x.Names, func(a, b Name) int {
		return cmp.Or(cmp.Compare(b.Total, a.Total), cmp.Compare(a.Name, b.Name))
	})
	return x
}

func durations(spans []Span) []int64 {
	out := make([]int64, 0, len(spans))
	for _, s := range spans {
		if !s.Open {
			out = append(out, s.Duration())
		}
	}
	slices.Sort(out)
	return out
}

// Find returns the spans of a name, in full or as it is shown; nil where there are none.
func (x *Index) Find(name string) *Name {
	for _, of := range []func(string) string{func(full string) string { return full }, profile.Short} {
		for i := range x.Names {
			if of(x.Names[i].Name) == name {
				return &x.Names[i]
			}
		}
	}
	return nil
}

// Of returns some of the spans as a name of their own.
func (n *Name) Of(keep func(Span) bool) *Name {
	out := &Name{Name: n.Name}
	for _, s := range n.Spans {
		if !keep(s) {
			continue
		}
		out.Spans = append(out.Spans, s)
		if s.Open {
			out.Open++
		} else {
			out.Total += s.Duration()
		}
	}
	out.durations = durations(out.Spans)
	return out
}

// Percentile is the smallest duration that a share of the spans, from 0 to 1, does not exceed (the
// nearest rank); 0 where there are no spans.
func (n *Name) Percentile(share float64) int64 {
	k := len(n.durations)
	if k == 0 {
		return 0
	}
	return n.durations[min(k-1, max(0, int(math.Ceil(share*float64(k)))-1))]
}

// Slowest are the slowest spans that are a share of all with an end, from 0 to 1, one at least, the slowest
// first.
func (n *Name) Slowest(share float64) []Span {
	out := slices.DeleteFunc(slices.Clone(n.Spans), func(s Span) bool { return s.Open })
	k := min(len(out), max(1, int(math.Ceil(share*float64(len(out))))))
	slices.SortStableFunc(out, func(a, b Span) int { return cmp.Compare(b.Duration(), a.Duration()) })
	return out[:k]
}

// Bucket is how many spans have durations from From on and below To.
type Bucket struct {
	From, To int64
	Count    int
}

// bucketsPerDecade is how fine a histogram is: each bucket is a quarter wider than the one before.
const bucketsPerDecade = 10

// Histogram counts the spans by duration, in buckets of equal width on a logarithmic axis, from the
// shortest to the longest span.
func (n *Name) Histogram() []Bucket {
	if len(n.durations) == 0 {
		return nil
	}
	first, last := bucketOf(n.durations[0]), bucketOf(n.durations[len(n.durations)-1])
	var out []Bucket
	at := 0
	for i := first; i <= last; i++ {
		b := Bucket{From: bucketFrom(i), To: bucketFrom(i + 1)}
		if b.To == b.From {
			continue // narrower than a nanosecond
		}
		end := at + sort.Search(len(n.durations)-at, func(k int) bool { return n.durations[at+k] >= b.To })
		b.Count, at = end-at, end
		out = append(out, b)
	}
	return out
}

// bucketOf is the number of the bucket that a duration falls into.
func bucketOf(d int64) int {
	if d < 1 {
		return 0
	}
	b := 1 + int(math.Floor(math.Log10(float64(d))*bucketsPerDecade))
	for bucketFrom(b) > d { // rounding
		b--
	}
	for bucketFrom(b+1) <= d {
		b++
	}
	return b
}

func bucketFrom(b int) int64 {
	if b <= 0 {
		return 0
	}
	return int64(math.Ceil(math.Pow(10, float64(b-1)/bucketsPerDecade)))
}

// Rate is how many spans ended in each of parts of equal length between two times.
func (n *Name) Rate(from, to int64, parts int) []int {
	out := make([]int, parts)
	if to <= from {
		return out
	}
	for _, s := range n.Spans {
		if s.Open || s.To < from || s.To >= to {
			continue
		}
		out[int(float64(s.To-from)/float64(to-from)*float64(parts))]++
	}
	return out
}

// In returns the spans whose intervals are marked.
func (x *Index) In(is []bool) *Index {
	out := &Index{Known: x.Known}
	for i := range x.Names {
		if n := x.Names[i].Of(func(s Span) bool { return is[s.Interval] }); len(n.Spans) > 0 {
			out.Names = append(out.Names, *n)
		}
	}
	return out
}

// Bytes estimates the memory that the index holds.
func (x *Index) Bytes() int64 {
	n := int64(0)
	for i := range x.Names {
		n += 200 + int64(len(x.Names[i].Spans))*(40+8)
	}
	return n
}

// Some returns at most so many spans for a drawing: all, or half of them the slowest and the others at
// equal distances, in the order in which they began.
func (n *Name) Some(most int) []Span {
	if len(n.Spans) <= most {
		return n.Spans
	}
	slowest := n.Percentile(1 - float64(most/2)/float64(len(n.Spans)))
	var out []Span
	step := float64(len(n.Spans)) / float64(most/2)
	next := 0.0
	for i, s := range n.Spans {
		regular := float64(i) >= next
		if regular {
			next += step
		}
		if regular || s.Duration() > slowest {
			out = append(out, s)
		}
	}
	return out
}

// Parted returns the slowest spans that are a share of all, or where longer is not 0 those that took as
// long or longer, and all others in the order in which they began.
func (n *Name) Parted(share float64, longer int64) (slow, others []Span) {
	is := map[int]bool{}
	if longer == 0 {
		for _, s := range n.Slowest(share) {
			is[s.Interval] = true
		}
	}
	for _, s := range n.Spans {
		switch {
		case s.Open:
		case is[s.Interval] || longer > 0 && s.Duration() >= longer:
			slow = append(slow, s)
		default:
			others = append(others, s)
		}
	}
	return slow, others
}

// Missing is how many calls of functions have no span of their own: short ones that came too fast, and
// such as found no room.
func Missing(f *profile.Facts) (thinned, lost int64) {
	for _, c := range f.Counted {
		if m, err := measure.Parse(c.Measure); err == nil && (m.Kind == measure.Span || m.Kind == measure.Probe) {
			thinned, lost = thinned+c.Thinned, lost+c.Unwritten+c.Lost
		}
	}
	return thinned, lost
}
