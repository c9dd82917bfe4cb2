package capture

import (
	"errors"
	"fmt"
	"runtime/debug"
	"time"

	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/resolve"
	"entelon/resolve/raw"
)

// consumer makes a profile of the records of a source, as they come. It is a Visitor.
type consumer struct {
	events   []*event // what the source's samples mean
	resolver *resolve.Resolver
	facts    *profile.Facts
	chosen   *chosen // nil: all samples are kept

	waits     *waits       // nil where waiting is not measured
	syscalls  *systemCalls // nil where system calls are not measured
	lastCalls map[uint32]lastCall

	every       time.Duration // how long a window is, 0: there are none
	window      func(Window) error
	windowBegan int64 // in nanoseconds since the collection began

	bad  error                           // the first
	note func(r *raw.Record, early bool) // is shown all that comes; nil: nobody wants to see it
}

func newConsumer(events []*event, ms *measures, r *resolve.Resolver, facts *profile.Facts) *consumer {
	c := &consumer{events: events, resolver: r, facts: facts, lastCalls: map[uint32]lastCall{}}
	if column := ms.columnOf(measure.Waiting); column >= 0 {
		c.waits = newWaits(r, column)
	}
	if ms.columnOf(measure.Syscalls) >= 0 {
		c.syscalls = newSystemCalls(r)
	}
	return c
}

// consume takes records until the source ends, and hands what the profile has gained to
// the sink once a second, or each window to whom it is for. After the sink has failed it goes on emptying the source, so
// that it can end. look is called at each round.
func (c *consumer) consume(src Source, sink Sink, began time.Time, look func(), stopped func() uint64, broke chan<- error) error {
	// Files are read where they are mapped; one that is cut short meanwhile is
	// then an error of that file, not the end of the collector.
	debug.SetPanicOnFault(true)
	failed := false
	flushed := time.Now()
	for src.Next(c) {
		look()
		c.resolver.NameParked(false)
		if failed {
			continue
		}
		err := c.turnIfDue(false)
		if c.every == 0 && time.Since(flushed) >= flushEvery {
			flushed = time.Now()
			err = c.flush(sink, began)
		}
		if err != nil {
			failed = true
			broke <- err
		}
	}
	c.settle(stopped())
	c.resolver.NameParked(true)
	if !failed {
		err := c.turnIfDue(true)
		if err == nil {
			err = sink.Append(c.resolver.Builder.Profile())
		}
		if err != nil {
			broke <- err
		}
	}
	if n := src.Dropped(); n > 0 {
		c.facts.Warn("dropped", fmt.Sprintf("%d MB of samples came faster than they could be named and were dropped.", n>>20), "Collect at a lower rate.")
	}
	return errors.Join(c.bad, src.Err())
}

func (c *consumer) flush(sink Sink, began time.Time) error {
	if err := sink.Append(c.resolver.Builder.Profile()); err != nil {
		return err
	}
	f := *c.facts
	f.CutOff = c.resolver.CutOff()
	if c.chosen != nil {
		f.LeftOut = c.chosen.left
	}
	f.DurationNS = time.Since(began).Nanoseconds()
	return sink.Facts(f)
}

// Early implements Visitor.
func (c *consumer) Early(r *raw.Record) {
	if c.note != nil {
		c.note(r, true)
	}
	switch r.Kind {
	case raw.CodeRead:
		c.resolver.LearnCode(r)
	case raw.Mapped:
		c.fail(c.resolver.Processes.Glance(r))
	}
}

func (c *consumer) fail(err error) {
	if c.bad == nil {
		c.bad = err
	}
}

// Visit implements Visitor.
func (c *consumer) Visit(r *raw.Record) {
	if c.note != nil {
		c.note(r, false)
	}
	switch r.Kind {
	case raw.Sampled:
		c.fail(c.sampled(r))
	case raw.SamplesLost:
		c.facts.Lost += r.Count
	case raw.Throttled:
		c.facts.Throttled++
	case raw.SwitchedOut, raw.SwitchedIn:
		if c.waits != nil {
			c.waits.switched(r)
		}
	case raw.Ended:
		c.gone(r)
		c.resolver.Processes.Apply(r)
	default:
		c.resolver.Processes.Apply(r)
	}
}

// sampled takes one sample for what it stands for.
func (c *consumer) sampled(r *raw.Record) error {
	if r.Event < 0 || r.Event >= len(c.events) {
		return errors.New("a sample of an event that there is not")
	}
	e := c.events[r.Event]
	if c.chosen != nil && !e.bare() && c.chosen.early(r, e) {
		return nil
	}
	switch e.role {
	case roleSwitch:
		c.waits.left(r)
	case roleWake:
		if tid, ok := wokenThread(r, e.point); ok {
			c.waits.woke(tid, r.Time)
		}
	case roleEnter:
		return c.syscalls.enter(r, e)
	case roleLeave:
		c.syscalls.leave(r, e)
	case roleDisk:
		return countDisk(c.resolver, r, e)
	case roleCall:
		c.called(r, e)
	default:
		x, _ := c.resolver.See(r)
		period := int64(r.Sample.Period)
		if e.cycles {
			c.resolver.Keep(x, 0, c.resolver.Value(e.column, int64(r.Sample.Ran), period))
			break
		}
		c.resolver.Keep(x, 0, c.resolver.Value(e.column, period))
	}
	return nil
}

// gone settles what a thread that has ended was in.
func (c *consumer) gone(r *raw.Record) {
	delete(c.lastCalls, r.TID)
	if c.waits != nil {
		c.waits.gone(r.TID)
	}
	if c.syscalls != nil {
		c.syscalls.gone(r.TID, r.Time)
	}
}

// settle counts what was going on when the take ended.
func (c *consumer) settle(at uint64) {
	if c.waits != nil {
		c.waits.finish(at)
	}
	if c.syscalls != nil {
		c.syscalls.finish(at)
	}
}
