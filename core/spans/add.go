package spans

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"time"

	"entelon/core/profile"
)

// Told is a span that a program, or what stands around it, told of itself. Times are nanoseconds since
// 1970.
type Told struct {
	Name       string
	Begin, End int64 // End 0: it has none
	Service    string
	Host       string   // "": not known
	PID, TID   uint32   // 0: not known
	ID, Parent string   // "": none
	Links      []string // identifiers of spans that this one goes on from, such as what put it into a queue
	// Arrived is when it was received, in nanoseconds since 1970 by the clock of the take; 0: that is
	// not known.
	Arrived int64
}

// Added says what became of spans that were told.
type Added struct {
	Spans    int // that are in the take now
	Process  int // of them, those whose process is among the take's
	Thread   int // and whose thread is
	Parents  int // and whose parent is among them
	Links    int // and that go on from one that is
	Queued   int // times in a queue, which are spans besides
	Open     int // and without an end
	Cut      int // and cut at the beginning or the end of the take
	Unnamed  int // and beyond the names that are told apart
	Outside  int // left out: before or after the take
	Reversed int // left out: they end before they begin
	Nameless int // left out: without a name, or with one that is too long
	// From and To are when those began that were told, in nanoseconds since 1970.
	From, To int64
}

// Bounds of what is added.
const (
	MaxTold   = 2_000_000 // spans
	maxNames  = 20_000    // that are told apart
	maxOthers = 1000      // processes that are not the take's, and are told apart
	// unknownProcess is the number of one that is not known where the take has the idle process, which is 0.
	unknownProcess = 1<<32 - 2
	// OtherNames is the name of spans beyond those.
	OtherNames = "spans of other names"
	// Queued is behind the name of a span whose time in a queue is meant.
	Queued = ", queued"
	// queueLane is the number of the lane of those; no thread has it.
	queueLane = 1<<32 - 2
)

// Errors about spans that cannot be added.
var (
	ErrNoClock = errors.New("the take does not say when it began")
	ErrOutside = errors.New("none of the spans is in the time of the take")
	ErrTooMany = fmt.Errorf("there are more than %d spans", MaxTold)
)

// Add returns a take with the spans in it. shift is added to their times, where their clock is known to be
// wrong. The error is one of those above.
func Add(t *profile.Take, told []Told, shift time.Duration) (*profile.Take, Added, error) {
	origin := t.Facts.OriginUnixNS
	if origin == 0 {
		origin = t.Machine.StartedAt.UnixNano()
	}
	if t.Machine.StartedAt.IsZero() && t.Facts.OriginUnixNS == 0 || t.Profile.Folded() {
		return nil, Added{}, ErrNoClock
	}
	b, err := profile.BuilderOf(t.Profile)
	if err != nil {
		return nil, Added{}, err
	}
	out, err := AddTo(b, t.Machine.Host, origin-shift.Nanoseconds(), t.Facts.DurationNS, told)
	if err != nil {
		return nil, out, err
	}
	with := *t
	with.Profile = b.Profile()
	return &with, out, nil
}

// AddTo adds spans to a profile that is being made on a host, whose time 0 was at origin, in nanoseconds since 1970,
// and which is so many nanoseconds long. The error is ErrTooMany or ErrOutside.
func AddTo(b *profile.Builder, host string, origin, duration int64, told []Told) (Added, error) {
	var out Added
	if len(told) > MaxTold {
		return out, ErrTooMany
	}
	a := adding{b: b, out: &out, at: map[string]uint32{}, names: map[string]bool{}, end: max(1, duration), shift: -origin}
	p := b.Profile()
	a.processes = map[uint32]profile.ProcessID{}
	for i, x := range p.Processes {
		a.processes[x.PID] = profile.ProcessID(i)
	}
	a.host, a.others = host, map[uint32]bool{}
	if _, idle := a.processes[0]; idle {
		a.unknown = unknownProcess
	}
	a.threads = map[[2]uint32]bool{}
	for _, x := range p.Threads {
		if !x.Goroutine {
			a.threads[[2]uint32{p.Processes[x.Process].PID, x.TID}] = true
		}
	}
	// Parents come first, so that their positions are known.
	sorted := slices.Clone(told)
	slices.SortStableFunc(sorted, func(x, y Told) int { return cmp.Or(cmp.Compare(x.Begin, y.Begin), cmp.Compare(y.End, x.End)) })
	for i := range sorted {
		a.add(&sorted[i])
	}
	if out.Spans == 0 && out.Outside > 0 {
		return out, ErrOutside
	}
	return out, nil
}

type adding struct {
	b         *profile.Builder
	out       *Added
	processes map[uint32]profile.ProcessID
	threads   map[[2]uint32]bool
	at        map[string]uint32 // position of a span, by its identifier
	names     map[string]bool
	others    map[uint32]bool // numbers of processes that are not the take's
	unknown   uint32          // that of a process of which none is known, or one of the take's
	host      string          // the take's; "": not known
	end       int64
	shift     int64
}

func (a *adding) add(s *Told) {
	out := a.out
	if out.From == 0 || s.Begin < out.From {
		out.From = s.Begin
	}
	out.To = max(out.To, s.Begin)
	name := s.Name
	if name == "" || len(name) > profile.LongestName {
		out.Nameless++
		return
	}
	from, to, open := s.Begin+a.shift, s.End+a.shift, s.End == 0
	if open {
		to = a.end
	} else if s.End < s.Begin {
		out.Reversed++
		return
	}
	if from >= a.end || to < 0 || open && from < 0 {
		out.Outside++
		return
	}
	if from < 0 || to > a.end {
		out.Cut++
		from, to = max(0, from), min(to, a.end)
	}
	if !a.names[name] {
		if len(a.names) >= maxNames {
			name = OtherNames
			out.Unnamed++
		}
		a.names[name] = true
	}
	b := a.b
	stack := b.Push(0, b.Mark(profile.Span, profile.SpanKey(name)))
	at := b.Interval(profile.Interval{Start: from, Duration: to - from, Thread: a.thread(s), Kind: profile.IntervalSpan, Stack: stack})
	out.Spans++
	if open {
		b.Attribute(profile.AttributeOpen, 1)
		out.Open++
	}
	if parent, known := a.at[s.Parent]; known && s.Parent != "" {
		b.Attribute(profile.AttributeParent, int64(parent))
		out.Parents++
	}
	link := -1
	for _, l := range s.Links {
		if from, known := a.at[l]; known {
			// A queue is between the two; the first that is known is where it came from.
			b.Attribute(profile.AttributeLink, int64(from))
			out.Links++
			link = int(from)
			break
		}
	}
	if s.ID != "" {
		a.at[s.ID] = at
	}
	if link >= 0 {
		a.queued(name, link, from, s)
	}
}

// queued adds the time that was spent in a queue before a span began, as a span of its own: from the end
// of what put it there.
func (a *adding) queued(name string, link int, until int64, s *Told) {
	b, v := a.b, &a.b.Profile().Intervals
	process, _ := a.process(s)
	put := min(v.Start[link]+v.Duration[link], until) // it may be taken out before it is known to be in
	if name += Queued; len(name) > profile.LongestName {
		return
	}
	lane := b.Thread(process, queueLane)
	b.NameThread(lane, "queue")
	b.Interval(profile.Interval{Start: put, Duration: until - put, Thread: lane, Kind: profile.IntervalSpan, Stack: b.Push(0, b.Mark(profile.Span, profile.SpanKey(name)))})
	a.out.Queued++
}

// process is of which process of the profile a span is, and whether that is one of the take.
func (a *adding) process(s *Told) (process profile.ProcessID, ours bool) {
	_, known := a.processes[s.PID]
	if known && s.PID != 0 && (s.Host == "" || a.host == "" || s.Host == a.host) {
		return a.b.Process(s.PID), true
	}
	pid := s.PID
	if !a.others[pid] && (known || len(a.others) >= maxOthers) {
		pid = a.unknown
	}
	a.others[pid] = true
	return a.b.Process(pid), false
}

// thread is whose a span is: the take's thread where it has it, else one of the service's own.
func (a *adding) thread(s *Told) profile.ThreadID {
	b := a.b
	process, ours := a.process(s)
	if ours {
		a.out.Process++
		if a.threads[[2]uint32{s.PID, s.TID}] && s.TID != 0 {
			a.out.Thread++
			return b.Thread(process, s.TID)
		}
		id := b.Thread(process, 0)
		b.NameThread(id, "spans")
		return id
	}
	// Of another process, or of an unknown one: under the service's name.
	name := s.Service
	if name == "" || len(name) > profile.LongestName {
		name = "spans"
	}
	b.NameProcess(process, name)
	id := b.Thread(process, 0)
	b.NameThread(id, name)
	return id
}
