package profile

import (
	"errors"
	"strings"

	"entelon/core/measure"
)

// IntervalKind says what is going on between the beginning of an interval and its end.
type IntervalKind uint8

// The kinds of interval. The order is part of the take file format.
const (
	NoInterval      IntervalKind = iota
	IntervalAlive                // there is a thread, as far as the take saw it
	IntervalWait                 // a thread cannot go on; the mark at the inner end of its stack says why
	IntervalReady                // a thread could go on, and waits for a processor
	IntervalCall                 // a system call, by the mark at the inner end of its stack
	IntervalSpan                 // something that the program itself names: the mark at the inner end of its stack
	IntervalCarried              // a goroutine runs on a thread, or in the kernel: its link
	intervalsEnd

	// intervalEvents, and those behind it, are events of the counted measure in a column of the profile:
	// page faults, requests to disks, calls of a function. What has no length is over when it begins.
	intervalEvents IntervalKind = 64
)

// EventsOf is the kind of the events of the measure whose first column that is; ok is false for columns
// that are too many.
func EventsOf(column int) (k IntervalKind, ok bool) {
	return intervalEvents + IntervalKind(column), column >= 0 && column < 256-int(intervalEvents)
}

// Column is the first column of the measure that an event counts for, -1 for other kinds.
func (k IntervalKind) Column() int {
	if k < intervalEvents {
		return -1
	}
	return int(k - intervalEvents)
}

var intervalNames = [intervalsEnd]string{"", "alive", "wait", "ready", "call", "span", "carried"}

// String returns the name as the API uses it.
func (k IntervalKind) String() string {
	switch {
	case k < intervalsEnd:
		return intervalNames[k]
	case k >= intervalEvents:
		return "event"
	}
	return ""
}

// Valid reports whether k is one of the kinds above.
func (k IntervalKind) Valid() bool { return k > NoInterval && k < intervalsEnd || k >= intervalEvents }

// Intervals are what has a beginning and an end, in columns of equal length, in the order in
// which they ended or became known.
type Intervals struct {
	Start    []int64 // nanoseconds since the take began
	Duration []int64 // nanoseconds, never negative
	Thread   []ThreadID
	Kind     []IntervalKind
	Stack    []StackID // where the thread was, with what it was for as the innermost frame
	Ended    Links
	Attributes
}

// Links say what ended intervals, and which thread carried a goroutine: one entry for each of which
// that is known, in the order of the intervals.
type Links struct {
	Interval []uint32
	Thread   []ThreadID // that woke the one that waited, or carries it; NoThread where it was an interrupt
	Stack    []StackID  // where that was at that moment
}

// NoThread is who it was where it was no thread.
const NoThread = ^ThreadID(0)

// Len returns the number of intervals.
func (v *Intervals) Len() int { return len(v.Start) }

// Interval is one interval with what ended it, to be added to a profile.
type Interval struct {
	Start, Duration int64
	Thread          ThreadID
	Kind            IntervalKind
	Stack           StackID
	Ended           bool // it is known what ended it:
	By              ThreadID
	ByStack         StackID
}

// Interval adds an interval and returns its position.
func (b *Builder) Interval(x Interval) uint32 {
	v := &b.p.Intervals
	at := uint32(v.Len())
	v.Start, v.Duration = append(v.Start, x.Start), append(v.Duration, x.Duration)
	v.Thread, v.Kind, v.Stack = append(v.Thread, x.Thread), append(v.Kind, x.Kind), append(v.Stack, x.Stack)
	if x.Ended {
		l := &v.Ended
		l.Interval, l.Thread, l.Stack = append(l.Interval, at), append(l.Thread, x.By), append(l.Stack, x.ByStack)
	}
	return at
}

var errIntervals = errors.New("an interval points outside its tables")

// check reports the first broken promise of the columns.
func (v *Intervals) check(p *Profile) error {
	n := v.Len()
	if len(v.Duration) != n || len(v.Thread) != n || len(v.Kind) != n || len(v.Stack) != n {
		return errors.New("the columns of intervals differ in length")
	}
	for i := range n {
		if int(v.Thread[i]) >= len(p.Threads) || int(v.Stack[i]) >= p.Stacks.Len() || !v.Kind[i].Valid() || v.Kind[i].Column() >= len(p.Measures) {
			return errIntervals
		}
		if v.Start[i] < 0 || v.Duration[i] < 0 || v.Start[i] > maxTime || v.Duration[i] > maxTime {
			return errors.New("an interval is at a time that cannot be")
		}
	}
	l := &v.Ended
	if len(l.Thread) != len(l.Interval) || len(l.Stack) != len(l.Interval) || !ascending(l.Interval, n) {
		return errIntervals
	}
	for i, t := range l.Thread {
		if t != NoThread && int(t) >= len(p.Threads) || int(l.Stack[i]) >= p.Stacks.Len() {
			return errIntervals
		}
	}
	if len(v.Attributes) > MaxAttributes {
		return errors.New("the intervals have too many attributes")
	}
	for i := range v.Attributes {
		if err := v.Attributes[i].check(p, n); err != nil {
			return err
		}
	}
	return nil
}

// ascending reports whether positions are below n, each above the one before.
func ascending(at []uint32, n int) bool {
	for i, v := range at {
		if int(v) >= n || i > 0 && v <= at[i-1] {
			return false
		}
	}
	return true
}

// OfIntervals returns a profile whose samples are the intervals of this one, each at its beginning,
// so that a scope can be asked about them. It shares everything with p, and has no measures.
func (p *Profile) OfIntervals() *Profile {
	out := *p
	v := &p.Intervals
	out.measuresOfEvents, out.Measures = p.Measures, nil
	out.Samples = Samples{Time: v.Start, Thread: v.Thread, Stack: v.Stack}
	if v.Len() == 0 {
		out.Samples.Time = []int64{}
	}
	return &out
}

// AreIntervals reports whether the samples of p are intervals: it comes from OfIntervals.
func AreIntervals(p *Profile) bool {
	t, v := p.Samples.Time, p.Intervals.Start
	return len(t) > 0 && len(t) == len(v) && &t[0] == &v[0]
}

// EventKindOf names what kind of event an interval of a kind is, as measures are chosen: "disk",
// "tracepoint:sched:sched_switch"; "" where it is none.
func EventKindOf(p *Profile, k IntervalKind) string {
	switch k {
	case IntervalWait, IntervalReady:
		return measure.Waiting
	case IntervalCall:
		return measure.Syscalls
	case IntervalSpan:
		return measure.Span
	}
	at, measures := k.Column(), p.Measures
	if measures == nil {
		measures = p.measuresOfEvents
	}
	if at < 0 || at >= len(measures) {
		return ""
	}
	w, _ := measure.Named(p.Strings[measures[at].Name])
	if w.Of != "" {
		return w.Kind + ":" + w.Of
	}
	return w.Kind
}

// OfEventKind is what a kind of event is of: of "function:slur.Route" the function.
func OfEventKind(name string) string {
	_, of, _ := strings.Cut(name, ":")
	return of
}
