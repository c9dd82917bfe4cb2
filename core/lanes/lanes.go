// Package lanes lays a take out over time: a lane for each thread, with what the thread did when.
//
// An Index has the waits of a take in the order of lanes and times; what a thread does between two
// waits, as long as it is there, is running. Rows of any stretch of time are made by one pass over
// the waits in it: a state that is at least as long as a picture's smallest part is a Run of its
// own with its exact bounds, and what is shorter is gathered, part by part, into runs that say how
// many there are and how long each state took together. So what is drawn adds up to what was
// measured, at every zoom.
//
// An Index is made once and may be read by many goroutines.
package lanes

import (
	"cmp"
	"iter"
	"runtime"
	"slices"
	"sort"

	"entelon/core/measure"
	"entelon/core/parallel"
	"entelon/core/profile"
)

// Lane is one thread, or one goroutine.
type Lane struct {
	Thread profile.ThreadID
	From   int64         // when it was first there, in nanoseconds since the take began
	To     int64         // and last
	Spent  [States]int64 // nanoseconds in each state, over the whole take
	Waits  int           // how often it waited
	Calls  int           // how many of its system calls are there
	told   bool          // nothing but spans is known of it, which somebody told
	first  int           // position of its first wait in the index's columns
	last   int           // exclusive
	seen   []int32       // its samples of processor time, in the order of their times
}

// Samples is how many samples of processor time the thread has.
func (l *Lane) Samples() int { return len(l.seen) }

// Index is a take laid out over time.
type Index struct {
	p *profile.Profile
	// Duration is how long the take was, in nanoseconds.
	Duration int64
	// Measured: waits were measured, so that it is known when a thread ran.
	Measured bool
	// Lanes are all threads that did something, those of one process beside each other, the process
	// that ran longest first, and in it goroutines before threads, those
	// that ran longest first.
	Lanes []Lane
	// Tick is for how long a sample of processor time stands, in nanoseconds; 0: there are none.
	Tick int64

	byThread []int // position of a thread's lane, -1 where it has none
	start    []int64
	length   []int64
	state    []State
	interval []uint32 // position among the profile's intervals
	spans    spanRows
}

// New lays a take out.
func New(t *profile.Take) *Index {
	p := t.Profile
	x := &Index{p: p, Duration: t.Facts.DurationNS, byThread: make([]int, len(p.Threads))}
	v := &p.Intervals
	// Each that asks remembers the states of stacks for itself.
	stateOf := func() func(int) State {
		states := make([]State, p.Stacks.Len()) // by stack, found out when met
		return func(i int) State {
			if v.Kind[i] == profile.IntervalReady {
				return Ready
			}
			s := v.Stack[i]
			if states[s] == NotThere {
				states[s] = Other
				if is, ok := stateOfMark[p.Functions[p.FunctionOf(s)].Mark]; ok {
					states[s] = is
				}
			}
			return states[s]
		}
	}
	lanes := make([]Lane, len(p.Threads))
	for i := range lanes {
		lanes[i] = Lane{Thread: profile.ThreadID(i), From: -1}
	}
	sees := func(l *Lane, from, to int64) {
		if l.From < 0 || from < l.From {
			l.From = from
		}
		l.To = max(l.To, to)
	}
	met := make([]bool, len(lanes)) // the system, and not somebody else, told of them
	for i, k := range v.Kind {
		l := &lanes[v.Thread[i]]
		switch k {
		case profile.IntervalAlive, profile.IntervalCarried:
			met[v.Thread[i]] = true
			if k == profile.IntervalCarried {
				break
			}
			sees(l, v.Start[i], v.Start[i]+v.Duration[i])
		case profile.IntervalWait, profile.IntervalReady:
			l.Waits++
			x.Measured = true
		case profile.IntervalCall:
			l.Calls++
			sees(l, v.Start[i], v.Start[i]+v.Duration[i])
		case profile.IntervalSpan:
			sees(l, v.Start[i], v.Start[i]+v.Duration[i])
		}
		x.Duration = max(x.Duration, v.Start[i]+v.Duration[i])
	}
	x.spans = newSpanRows(p)
	x.fill(lanes, stateOf)
	x.samples(t, lanes, sees)
	carrying{x, sees}.all(lanes)
	for i := range lanes {
		if p.Threads[i].TID == nobody {
			continue
		}
		l := &lanes[i]
		l.told = !met[i] && l.Waits == 0 && l.Calls == 0 && len(l.seen) == 0
		if l.From >= 0 && (l.Waits > 0 || l.Calls > 0 || len(l.seen) > 0 || x.Measured || x.spans.of[l.Thread] != nil) {
			x.add(l)
		}
	}
	x.sort()
	return x
}

// nobody is the number that the kernel gives in samples of threads that are about to be gone, whichever
// they are.
const nobody = ^uint32(0)

// fill puts the waits into the order of lanes and times.
func (x *Index) fill(lanes []Lane, stateOf func() func(int) State) {
	n := 0
	for i := range lanes {
		lanes[i].first, lanes[i].last = n, n
		n += lanes[i].Waits
	}
	x.start, x.length, x.state, x.interval = make([]int64, n), make([]int64, n), make([]State, n), make([]uint32, n)
	// Each processor fills some of the lanes; all of them go through all intervals.
	workers := 1
	if n >= parallel.Worth {
		workers = runtime.GOMAXPROCS(0)
	}
	parallel.PiecesFrom(2, workers, func(pieces iter.Seq2[int, int]) {
		for low, high := range pieces {
			for w := low; w < high; w++ {
				fillSome(x, lanes, stateOf(), func(id profile.ThreadID) bool { return int(id)%workers == w })
			}
		}
	})
}

// fillSome puts the waits of some threads into their lanes.
func fillSome(x *Index, lanes []Lane, stateOf func(int) State, mine func(profile.ThreadID) bool) {
	v := &x.p.Intervals
	for i, k := range v.Kind {
		if k != profile.IntervalWait && k != profile.IntervalReady || !mine(v.Thread[i]) {
			continue
		}
		l := &lanes[v.Thread[i]]
		at := l.last
		l.last++
		for at > l.first && x.start[at-1] > v.Start[i] { // they come in the order of their ends, mostly
			x.start[at], x.length[at], x.state[at], x.interval[at] = x.start[at-1], x.length[at-1], x.state[at-1], x.interval[at-1]
			if at--; l.last-at > maxShift {
				break
			}
		}
		x.start[at], x.length[at], x.state[at], x.interval[at] = v.Start[i], v.Duration[i], stateOf(i), uint32(i)
	}
	for i := range lanes {
		if mine(profile.ThreadID(i)) {
			x.straighten(&lanes[i])
		}
	}
}

// maxShift bounds how far a wait is moved to its place, before all of a lane are sorted.
const maxShift = 64

// straighten sees to it that a lane's waits are in order and none is in another: a file may say
// anything.
func (x *Index) straighten(l *Lane) {
	n := l.last - l.first
	start := x.start[l.first:l.last]
	if !slices.IsSorted(start) {
		order := make([]int, n)
		for i := range order {
			order[i] = l.first + i
		}
		slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(x.start[a], x.start[b]) })
		put(start, x.start, order)
		put(x.length[l.first:l.last], x.length, order)
		put(x.state[l.first:l.last], x.state, order)
		put(x.interval[l.first:l.last], x.interval, order)
	}
	for i := l.first; i+1 < l.last; i++ {
		x.length[i] = min(x.length[i], x.start[i+1]-x.start[i])
	}
}

func put[T any](to, from []T, order []int) {
	sorted := make([]T, len(order))
	for i, at := range order {
		sorted[i] = from[at]
	}
	copy(to, sorted)
}

// samples gives lanes their samples of processor time.
func (x *Index) samples(t *profile.Take, lanes []Lane, sees func(*Lane, int64, int64)) {
	p := x.p
	m := -1
	for i := range p.Measures {
		if p.Words(i).Kind == measure.CPU && m < 0 {
			m = i
		}
	}
	if m < 0 || p.Folded() || t.Facts.Exact != nil {
		return
	}
	if hz := t.Settings.RateHz; hz > 0 {
		x.Tick = int64(1e9) / int64(hz)
	}
	for i, at := range p.Samples.Time {
		l := &lanes[p.Samples.Thread[i]]
		sees(l, at, at)
		if p.Samples.Values[m][i] != 0 {
			l.seen = append(l.seen, int32(i))
		}
		x.Duration = max(x.Duration, at)
	}
	times := p.Samples.Time
	for i := range lanes {
		seen := lanes[i].seen
		byTime := func(a, b int32) int { return cmp.Compare(times[a], times[b]) }
		if !slices.IsSortedFunc(seen, byTime) {
			slices.SortStableFunc(seen, byTime)
		}
	}
}

// add adds a lane, and up what its thread did.
func (x *Index) add(l *Lane) {
	if n := l.last; n > l.first {
		l.From, l.To = min(l.From, x.start[l.first]), max(l.To, x.start[n-1]+x.length[n-1])
	}
	waited := int64(0)
	for i := l.first; i < l.last; i++ {
		l.Spent[x.state[i]] += x.length[i]
		waited += x.length[i]
	}
	l.Spent[x.between(l)] = max(0, l.To-l.From-waited)
	x.Lanes = append(x.Lanes, *l)
}

// between is what a thread does that does not wait.
func (x *Index) between(l *Lane) State {
	if x.Measured && !l.told {
		return Running
	}
	return Unknown
}

func (x *Index) sort() {
	busy := func(l *Lane) int64 {
		if x.Measured {
			return l.Spent[Running]
		}
		return int64(len(l.seen)) * max(x.Tick, 1)
	}
	rank := func(lane int) int { // goroutines before the threads that carry them
		if x.p.Threads[x.Lanes[lane].Thread].Goroutine {
			return 0
		}
		return 1
	}
	process := make([]int64, len(x.p.Processes))
	for i := range x.Lanes {
		if rank(i) > 0 { // what these do, their threads do
			process[x.ProcessOf(i)] += busy(&x.Lanes[i])
		}
	}
	order := make([]int, len(x.Lanes))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int {
		pa, pb := x.ProcessOf(a), x.ProcessOf(b)
		return cmp.Or(cmp.Compare(process[pb], process[pa]), cmp.Compare(pa, pb), cmp.Compare(rank(a), rank(b)), cmp.Compare(busy(&x.Lanes[b]), busy(&x.Lanes[a])))
	})
	put(x.Lanes, x.Lanes, order)
	for i := range x.byThread {
		x.byThread[i] = -1
	}
	for i := range x.Lanes {
		x.byThread[x.Lanes[i].Thread] = i
	}
}

// ProcessOf is the process of a lane's thread.
func (x *Index) ProcessOf(lane int) profile.ProcessID {
	return x.p.Threads[x.Lanes[lane].Thread].Process
}

// LaneOf returns the position of a thread's lane, -1 where it has none.
func (x *Index) LaneOf(thread profile.ThreadID) int {
	if int(thread) >= len(x.byThread) {
		return -1
	}
	return x.byThread[thread]
}

// Bytes estimates the memory that the index holds beside the profile.
func (x *Index) Bytes() int64 {
	n := x.spans.bytes + int64(len(x.start))*21 + int64(len(x.byThread))*8 + int64(len(x.Lanes))*200
	for i := range x.Lanes {
		n += int64(len(x.Lanes[i].seen)) * 4
	}
	return n
}

// from returns the position of the first wait of a lane that ends after a time.
func (x *Index) from(l *Lane, at int64) int {
	i := l.first + sort.Search(l.last-l.first, func(i int) bool { return x.start[l.first+i] > at })
	if i > l.first && x.start[i-1]+x.length[i-1] > at {
		i--
	}
	return i
}
