package lanes

import (
	"cmp"
	"slices"

	"entelon/core/profile"
)

// Run is a part of a lane.
type Run struct {
	From, To int64 // in nanoseconds since the take began
	State    State // the only one, or that which took longest
	Interval int   // the wait that it is, position among the profile's intervals; -1: it is none, or several
	// Count is how many states are gathered in it, each too short to be drawn by itself; 1: it is
	// one with its exact bounds.
	Count int
	Spent [States]int64 // of several, nanoseconds in each
}

// Row returns what a thread did between two times, in parts of which no more than two stand for
// each of so many equal parts of the time. Together they are as long as the thread was there.
func (x *Index) Row(lane int, from, to int64, parts int) []Run {
	l := &x.Lanes[lane]
	g := gathering{width: max(1, (to-from)/int64(max(1, parts))), origin: from, from: max(from, l.From), to: min(to, l.To)}
	if g.from >= g.to {
		return nil
	}
	at, between := g.from, x.between(l)
	for i := x.from(l, g.from); i < l.last && x.start[i] < g.to; i++ {
		begin, end := max(x.start[i], g.from), min(x.start[i]+x.length[i], g.to)
		if begin > at {
			g.add(at, begin, between, -1)
		}
		if end > begin {
			g.add(begin, end, x.state[i], int(x.interval[i]))
		}
		at = max(at, end)
	}
	if at < g.to {
		g.add(at, g.to, between, -1)
	}
	g.flush()
	return g.out
}

// gathering makes runs of states that follow each other.
type gathering struct {
	width, origin, from, to int64
	out                     []Run
	open                    Run   // Count 0: nothing is gathered
	until                   int64 // where the part ends in which something is gathered
}

func (g *gathering) add(from, to int64, s State, interval int) {
	if to-from >= g.width {
		g.flush()
		g.out = append(g.out, Run{From: from, To: to, State: s, Interval: interval, Count: 1})
		return
	}
	o := &g.open
	if from >= g.until && o.Count > 0 {
		g.flush()
	}
	if o.Count == 0 {
		o.From, o.Interval = from, interval
		g.until = from - (from-g.origin)%g.width + g.width
	}
	o.To = to
	o.Count++
	o.Spent[s] += to - from
}

func (g *gathering) flush() {
	o := &g.open
	if o.Count == 0 {
		return
	}
	if o.Count > 1 {
		o.Interval = -1
	}
	for s := range o.Spent {
		if o.Spent[s] > o.Spent[o.State] || o.State == NotThere {
			o.State = State(s)
		}
	}
	if o.Count == 1 {
		o.Spent = [States]int64{}
	}
	g.out = append(g.out, *o)
	*o = Run{}
}

// At is what a thread did at one time.
type At struct {
	Run
	Stack    profile.StackID  // where it waited; 0: it ran, or it is not known
	Ended    bool             // it is known who ended the wait:
	By       profile.ThreadID // NoThread: an interrupt
	ByStack  profile.StackID
	Samples  int   // of processor time, while it ran
	Previous int64 // when the state before began; -1: there is none
	Next     int64 // when the state after begins; -1: there is none
}

// At returns what a thread did at a time; ok is false where it was not there.
func (x *Index) At(lane int, at int64) (out At, ok bool) {
	l := &x.Lanes[lane]
	if at < l.From || at >= l.To {
		return out, false
	}
	i := x.from(l, at)
	out.Previous, out.Next = -1, -1
	before := func(end int64) {
		if end > l.From {
			out.Previous = x.previous(l, end)
		}
	}
	if i < l.last && x.start[i] <= at {
		n := int(x.interval[i])
		out.Run = Run{From: x.start[i], To: x.start[i] + x.length[i], State: x.state[i], Interval: n, Count: 1}
		out.Stack = x.p.Intervals.Stack[n]
		out.By, out.ByStack, out.Ended = x.EndedBy(n)
	} else {
		out.Run = Run{From: l.From, To: l.To, State: x.between(l), Interval: -1, Count: 1}
		if i > l.first {
			out.From = x.start[i-1] + x.length[i-1]
		}
		if i < l.last {
			out.To = x.start[i]
		}
		first, last := x.seenIn(l, out.From, out.To)
		out.Samples = last - first
	}
	before(out.From)
	if out.To < l.To {
		out.Next = out.To
	}
	return out, true
}

// previous is when the state began that ended at a time.
func (x *Index) previous(l *Lane, end int64) int64 {
	i := x.from(l, end-1)
	if i < l.last && x.start[i] < end {
		return x.start[i]
	}
	if i > l.first {
		return x.start[i-1] + x.length[i-1]
	}
	return l.From
}

// EndedBy returns who ended a wait, by its position among the profile's intervals, and where that
// was.
func (x *Index) EndedBy(interval int) (by profile.ThreadID, stack profile.StackID, ok bool) {
	links := &x.p.Intervals.Ended
	n, ok := slices.BinarySearch(links.Interval, uint32(interval))
	if !ok {
		return 0, 0, false
	}
	return links.Thread[n], links.Stack[n], true
}

// Spent adds up how long a thread was in each state between two times.
func (x *Index) Spent(lane int, from, to int64) (out [States]int64) {
	l := &x.Lanes[lane]
	from, to = max(from, l.From), min(to, l.To)
	if to <= from {
		return out
	}
	rest := to - from
	for i := x.from(l, from); i < l.last && x.start[i] < to; i++ {
		d := min(x.start[i]+x.length[i], to) - max(x.start[i], from)
		out[x.state[i]] += d
		rest -= d
	}
	out[x.between(l)] += max(0, rest)
	return out
}

// Longest returns the longest waits of a thread that are, at least in part, between two times; what
// is outside does not count.
func (x *Index) Longest(lane int, from, to int64, most int) []Run {
	l := &x.Lanes[lane]
	var out []Run
	for i := x.from(l, from); i < l.last && x.start[i] < to && most > 0; i++ {
		r := Run{From: max(x.start[i], from), To: min(x.start[i]+x.length[i], to), State: x.state[i], Interval: int(x.interval[i]), Count: 1}
		if !r.State.Waits() || len(out) == most && r.To-r.From <= out[most-1].To-out[most-1].From {
			continue
		}
		at, _ := slices.BinarySearchFunc(out, r, func(a, b Run) int { return cmp.Or(cmp.Compare(b.To-b.From, a.To-a.From), cmp.Compare(a.From, b.From)) })
		out = slices.Insert(out, at, r)
		out = out[:min(len(out), most)]
	}
	return out
}
