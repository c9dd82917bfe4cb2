package pairing

import (
	"math"

	"entelon/capture/rings"
	"entelon/core/profile"
	"entelon/resolve"
	"entelon/resolve/raw"
	"entelon/unwind"
)

// tallies shares what the source has added up of a class of events among the samples that
// it gave of it. What came after one sample and before the next is the first one's, whose
// own event is among it: so each event counts once, whether or not it has a sample, and a
// sample that is lost takes none along.
type tallies struct {
	c  *Consumer
	of map[raw.Class]*tallied
	// foreign are processes that woke one of ours: whether they are none of ours
	foreign    map[uint32]bool
	happenings happenings
}

// tallied is one class.
type tallied struct {
	last   resolve.Seen // the sample that came last
	has    bool         // there was one
	nobody bool         // what comes after it does not count
	left   bool         // it was not to be kept
	mark   profile.FrameID
	shared raw.Tally // what was shared out
	// interrupt are the frames of an interrupt that came in between, the innermost first, where
	// that woke others and not the thread.
	interrupt []profile.FrameID
}

func newTallies(c *Consumer) *tallies {
	return &tallies{c: c, of: map[raw.Class]*tallied{}, foreign: map[uint32]bool{}}
}

func (ts *tallies) class(k raw.Class) *tallied {
	t := ts.of[k]
	if t == nil {
		t = &tallied{}
		ts.of[k] = t
	}
	return t
}

// sampled takes a sample of an event that is added up.
func (ts *tallies) sampled(rec *raw.Record, e *rings.Event) {
	sum := rec.Sample.Tally
	if sum == nil {
		return // how much there was before it was lost; the next one, or the sums, will say
	}
	t := ts.class(sum.Class)
	if t.has {
		ts.share(t, sum, e)
	}
	t.has, t.nobody, t.left = true, false, false
	if e.Attr == nil {
		ts.c.resolver.TrimOwn(rec.Sample)
	}
	if e.Wakes() {
		ts.woke(t, rec)
		return
	}
	ts.c.Counted.Singly[e.Column]++
	if f := ts.c.Filter; f != nil && f.leavesOut(rec) {
		t.left = true
		return
	}
	r := ts.c.resolver
	seen, frames := r.See(rec)
	t.last = seen
	switch e.Role {
	case rings.RoleSwitch:
		t.mark = r.Mark(ts.c.Waits.reasonOf(frames.Kernel))
	case rings.RoleEnter:
		t.mark = ts.c.syscalls.mark(uint64(sum.Class.What))
	case rings.RoleDisk:
		t.mark = r.Mark(requestMark(sum.Class.What))
	case rings.RolePark:
		t.mark = resolve.MarkByStack
	case rings.RoleSpan:
		t.mark = ts.spanMark(e, sum.Class.What)
	case rings.RoleCall:
		t.nobody = e.Allocator && ts.c.calledByAllocator(seen.Of, rec, frames)
	}
}

// share gives what came since the last time to the sample that came last.
func (ts *tallies) share(t *tallied, sum *raw.Tally, e *rings.Event) {
	was := t.shared
	if sum.Count < was.Count || sum.Sum < was.Sum || sum.Run < was.Run {
		return // all sums were read before this sample's turn came
	}
	t.shared = *sum
	ts.keep(t, sum.Count-was.Count, sum.Sum-was.Sum, sum.Run-was.Run, e)
}

func (ts *tallies) keep(t *tallied, count, sum, run int64, e *rings.Event) {
	if e.Wakes() || count == 0 && sum == 0 && run == 0 || t.nobody {
		return
	}
	if t.left {
		ts.c.Filter.Left++
		return
	}
	ts.c.Counted.Events[e.Column] += count
	r := ts.c.resolver
	switch {
	case e.Role == rings.RoleSwitch || e.Role == rings.RolePark:
		if sum > 0 {
			r.Keep(t.last, t.mark, r.Value(e.Column, sum))
		}
		if run > 0 {
			r.Keep(t.last, r.Mark(profile.WaitProcessor), r.Value(e.Column, run))
		}
	case e.Role == rings.RoleEnter || e.Role == rings.RoleSpan || e.Role == rings.RoleDisk || e.Role == rings.RoleCall && len(e.Size) > 0:
		r.Keep(t.last, t.mark, r.Value(e.Column, sum, count))
	default:
		r.Keep(t.last, 0, r.Value(e.Column, count))
	}
}

// summed takes the sums of a class, or what goes on in one.
func (ts *tallies) summed(rec *raw.Record) {
	if rec.Event < 0 || rec.Event >= len(ts.c.events) {
		return
	}
	e := ts.c.events[rec.Event]
	t := ts.class(rec.Tally.Class)
	if !t.has && (rec.Last || rec.Kind == raw.GoingOn) && !e.Wakes() {
		ts.unseen(t, rec.Tally.Class)
	}
	switch {
	case rec.Kind == raw.GoingOn:
		ts.keep(t, 0, rec.Tally.Sum, rec.Tally.Run, e)
	case t.has:
		ts.share(t, rec.Tally, e)
	}
	if rec.Kind == raw.Tallied && rec.Last {
		ts.releaseOf(rec.Tally.Class)
		delete(ts.of, rec.Tally.Class)
	}
}

// unseen makes a sample for a class of which none came.
func (ts *tallies) unseen(t *tallied, k raw.Class) {
	r := ts.c.resolver
	e := ts.c.events[k.Event]
	t.has = true
	if k.Before || k.Coarse {
		p := r.Processes.Get(k.PID)
		why := profile.CutNoMemory
		switch {
		case k.Before && e.Role == rings.RoleSwitch:
			why = profile.WaitedBefore
		case k.Before:
			why = profile.BeganBefore
		}
		t.last = resolve.Seen{Of: p, Thread: r.Processes.Thread(p, k.TID), Time: r.Origin, Ready: true, Stack: r.Builder.Push(0, r.Mark(why))}
	} else {
		// Where it was is known, but not how it got there.
		at := raw.Sample{Copied: true, Known: true}
		at.Registers.Set(unwind.PC, k.IP)
		at.Registers.Set(unwind.RSP, k.SP)
		t.last, _ = r.See(&raw.Record{Kind: raw.Sampled, PID: k.PID, TID: k.TID, Time: max(ts.c.latest, r.Origin), Event: k.Event, Sample: &at})
	}
	switch e.Role {
	case rings.RoleSwitch:
		t.mark = r.Mark(ts.c.Waits.alreadyFor(k.TID))
	case rings.RoleEnter:
		t.mark = ts.c.syscalls.mark(uint64(k.What))
	case rings.RoleDisk:
		t.mark = r.Mark(requestMark(k.What))
	case rings.RolePark:
		t.mark = r.Mark(profile.WaitUnknown)
	case rings.RoleSpan:
		t.mark = ts.spanMark(e, k.What)
	}
}

// spanMark is the frame of spans of one of an event's functions.
func (ts *tallies) spanMark(e *rings.Event, number uint32) profile.FrameID {
	name := ""
	if int(number) < len(e.Spans.Names) {
		name = e.Spans.Names[number]
	}
	return ts.c.resolver.Builder.Mark(profile.Span, profile.SpanKey(name))
}

// carry takes what was seen into another profile.
func (ts *tallies) carry(to profile.Carry) {
	ts.release(math.MaxUint64)
	for _, t := range ts.of {
		if t.has && !t.left {
			t.last = resolve.Carried(t.last, to)
			if t.mark != 0 && t.mark != resolve.MarkByStack {
				t.mark = to.Frame(t.mark)
			}
		}
	}
}
