package lanes

import (
	"cmp"
	"errors"
	"slices"

	"entelon/core/events"
	"entelon/core/profile"
)

// Step is a part of a critical path: what one thread did between two times, because of which the
// thread that is asked about was not further.
type Step struct {
	Lane     int
	From, To int64
	State    State
	Interval int // the wait, position among the profile's intervals; -1: it ran, or that is not known
	Depth    int // how many waits lie between it and the thread that is asked about; 0: it itself
}

// Bounds of a critical path.
const (
	MaxPathDepth = 64      // waits that are followed, one within another
	MaxPathSteps = 500_000 // some 30 MB
)

// ErrLongPath is the error about a stretch of time with more steps than MaxPathSteps.
var ErrLongPath = errors.New("its critical path has too many steps; choose a shorter stretch of time")

// CriticalPath returns what a thread's progress between two times depended on: where it ran or was
// ready, it itself; where it waited until another thread ended that, what the other one did in that
// time, and so on down the chain of those who ended waits. A wait stays a step of its own where an
// interrupt ended it, where it is not known who did, and for the time in which who did was not there.
//
// The steps follow each other without a gap and are together as long as the thread was there. The
// error is ErrLongPath.
func (x *Index) CriticalPath(lane int, from, to int64) ([]Step, error) {
	l := &x.Lanes[lane]
	p := pathing{x: x}
	p.follow(lane, max(from, l.From), min(to, l.To), 0)
	if p.full() {
		return nil, ErrLongPath
	}
	return p.steps, nil
}

type pathing struct {
	x     *Index
	steps []Step
}

// full reports whether there are too many steps, so that going on is in vain.
func (p *pathing) full() bool { return len(p.steps) > MaxPathSteps }

func (p *pathing) add(s Step) {
	if s.To <= s.From {
		return
	}
	if n := len(p.steps); n > 0 {
		if o := &p.steps[n-1]; o.Lane == s.Lane && o.State == s.State && o.Interval == s.Interval && o.Depth == s.Depth && o.To == s.From {
			o.To = s.To
			return
		}
	}
	p.steps = append(p.steps, s)
}

func (p *pathing) follow(lane int, from, to int64, depth int) {
	x := p.x
	l := &x.Lanes[lane]
	at := from
	for i := x.from(l, from); i < l.last && x.start[i] < to && !p.full(); i++ {
		begin, end := max(x.start[i], from), min(x.start[i]+x.length[i], to)
		p.add(Step{lane, at, begin, x.between(l), -1, depth})
		if end > begin {
			p.wait(Step{lane, begin, end, x.state[i], int(x.interval[i]), depth})
		}
		at = max(at, end)
	}
	p.add(Step{lane, at, to, x.between(l), -1, depth})
}

// wait puts what held a thread up in the place of a wait.
func (p *pathing) wait(s Step) {
	by, _, known := p.x.EndedBy(s.Interval)
	other := -1
	if known && by != profile.NoThread {
		other = p.x.LaneOf(by)
	}
	if !s.State.Waits() || other < 0 || other == s.Lane || s.Depth >= MaxPathDepth {
		p.add(s)
		return
	}
	l := &p.x.Lanes[other]
	from, to := max(s.From, l.From), min(s.To, l.To)
	if to <= from {
		p.add(s)
		return
	}
	p.add(Step{s.Lane, s.From, from, s.State, s.Interval, s.Depth})
	p.follow(other, from, to, s.Depth+1)
	p.add(Step{s.Lane, to, s.To, s.State, s.Interval, s.Depth})
}

// Blame is how much of critical paths was one thread's being in one state at one place.
type Blame struct {
	Lane     int
	State    State
	Function profile.FunctionID // where: of a wait, by its stack; of what ran, by the samples; 0: not known
	Line     uint32             // of the function's file, that with most of it; 0: not known
	NS       int64
	Steps    int
	Samples  int // of what ran, on which the place rests
}

// BlameOf adds up steps by thread, state and place in the program's own code, the most first. What
// ran is shared among its places by the samples that fell into it; where none did, its place is not
// known.
func (x *Index) BlameOf(steps []Step) []Blame {
	type key struct {
		lane     int
		state    State
		function profile.FunctionID
	}
	type row struct {
		Blame
		lines map[uint32]int64
	}
	sums := map[key]*row{}
	add := func(s *Step, at profile.FrameID, ns int64, samples int) {
		fr := x.p.Frames[at]
		k := key{s.Lane, s.State, fr.Function}
		b := sums[k]
		if b == nil {
			b = &row{Blame{Lane: s.Lane, State: s.State, Function: fr.Function}, map[uint32]int64{}}
			sums[k] = b
		}
		b.NS, b.Steps, b.Samples = b.NS+ns, b.Steps+1, b.Samples+samples
		b.lines[fr.Line] += ns
	}
	for i := range steps {
		s := &steps[i]
		ns := s.To - s.From
		if s.Interval >= 0 {
			add(s, x.place(x.p.Intervals.Stack[s.Interval]), ns, 0)
			continue
		}
		x.shareRun(s, ns, add)
	}
	out := make([]Blame, 0, len(sums))
	for _, b := range sums {
		most := int64(-1)
		for line, ns := range b.lines {
			if ns > most || ns == most && line < b.Line {
				b.Line, most = line, ns
			}
		}
		out = append(out, b.Blame)
	}
	slices.SortFunc(out, func(a, b Blame) int {
		return cmp.Or(cmp.Compare(b.NS, a.NS), cmp.Compare(a.Lane, b.Lane), cmp.Compare(a.State, b.State), cmp.Compare(a.Function, b.Function))
	})
	return out
}

// place is where in the program's own code a stack is; 0 where that is not known.
func (x *Index) place(s profile.StackID) profile.FrameID {
	at, ok := events.Place(x.p, s)
	if !ok {
		return 0
	}
	return at
}

// shareRun shares what ran among the places of its samples, to the nanosecond.
func (x *Index) shareRun(s *Step, ns int64, add func(*Step, profile.FrameID, int64, int)) {
	l := &x.Lanes[s.Lane]
	first, last := x.seenIn(l, s.From, s.To)
	shareOut(l.seen[first:last], ns, func(i int32) profile.FrameID { return x.place(x.p.Samples.Stack[i]) },
		func(at profile.FrameID, ns int64, samples int) { add(s, at, ns, samples) })
}

// Share shares a step in which a thread ran among the stacks of its samples, to the nanosecond; the
// stack is 0 where there are none.
func (x *Index) Share(s *Step, add func(stack profile.StackID, ns int64)) {
	l := &x.Lanes[s.Lane]
	first, last := x.seenIn(l, s.From, s.To)
	shareOut(l.seen[first:last], s.To-s.From, func(i int32) profile.StackID { return x.p.Samples.Stack[i] },
		func(stack profile.StackID, ns int64, _ int) { add(stack, ns) })
}

// shareOut shares nanoseconds among what samples are of, by how many are.
func shareOut[T comparable](seen []int32, ns int64, of func(int32) T, add func(T, int64, int)) {
	var order []T
	counts := map[T]int{}
	for _, i := range seen {
		f := of(i)
		if counts[f] == 0 {
			order = append(order, f)
		}
		counts[f]++
	}
	if len(order) == 0 {
		var none T
		add(none, ns, 0)
		return
	}
	all, given, sofar := int64(len(seen)), int64(0), int64(0)
	for _, f := range order {
		sofar += int64(counts[f])
		upTo := ns / all * sofar
		upTo += ns % all * sofar / all
		add(f, upTo-given, counts[f])
		given = upTo
	}
}
