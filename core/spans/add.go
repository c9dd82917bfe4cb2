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
	PID, TID   uint32 // 0: not known
	ID, Parent string // "": none
}

// Added says what became of spans that were told.
type Added struct {
	Spans    int // that are in the take now
	Process  int // of them, those whose process is among the take's
	Thread   int // and whose thread is
	Parents  int // and whose parent is among them
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
	MaxTold  = 2_000_000 // spans
	maxNames = 20_000    // that are told apart
	// OtherNames is the name of spans beyond those.
	OtherNames = "spans of other names"
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
	var out Added
	origin := t.Facts.OriginUnixNS
	if origin == 0 {
		origin = t.Machine.StartedAt.UnixNano()
	}
	switch {
	case t.Machine.StartedAt.IsZero() && t.Facts.OriginUnixNS == 0, t.Profile.Folded():
		return nil, out, ErrNoClock
	case len(told) > MaxTold:
		return nil, out, ErrTooMany
	}
	b, err := profile.BuilderOf(t.Profile)
	if err != nil {
		return nil, out, err
	}
	a := adding{take: t, b: b, out: &out, at: map[string]uint32{}, names: map[string]bool{}, end: max(1, t.Facts.DurationNS), shift: shift.Nanoseconds() - origin}
	a.processes = map[uint32]profile.ProcessID{}
	for i, p := range t.Profile.Processes {
		a.processes[p.PID] = profile.ProcessID(i)
	}
	a.threads = map[[2]uint32]bool{}
	for _, x := range t.Profile.Threads {
		if !x.Goroutine {
			a.threads[[2]uint32{t.Profile.Processes[x.Process].PID, x.TID}] = true
		}
	}
	// Parents come first, so that their positions are known.
	sorted := slices.Clone(told)
	slices.SortStableFunc(sorted, func(x, y Told) int { return cmp.Or(cmp.Compare(x.Begin, y.Begin), cmp.Compare(y.End, x.End)) })
	for i := range sorted {
		a.add(&sorted[i])
	}
	if out.Spans == 0 && out.Outside > 0 {
		return nil, out, ErrOutside
	}
	with := *t
	with.Profile = b.Profile()
	return &with, out, nil
}

type adding struct {
	take      *profile.Take
	b         *profile.Builder
	out       *Added
	processes map[uint32]profile.ProcessID
	threads   map[[2]uint32]bool
	at        map[string]uint32 // position of a span, by its identifier
	names     map[string]bool
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
	if s.ID != "" {
		a.at[s.ID] = at
	}
}

// thread is whose a span is: the take's thread where it has it, else one of the service's own.
func (a *adding) thread(s *Told) profile.ThreadID {
	b := a.b
	if _, known := a.processes[s.PID]; known && s.PID != 0 {
		a.out.Process++
		process := b.Process(s.PID)
		if a.threads[[2]uint32{s.PID, s.TID}] && s.TID != 0 {
			a.out.Thread++
			return b.Thread(process, s.TID)
		}
		id := b.Thread(process, 0)
		b.NameThread(id, "spans")
		return id
	}
	// Of another process, or of an unknown one: under the service's name.
	process := b.Process(s.PID)
	name := s.Service
	if name == "" || len(name) > profile.LongestName {
		name = "spans"
	}
	b.NameProcess(process, name)
	id := b.Thread(process, 0)
	b.NameThread(id, name)
	return id
}
