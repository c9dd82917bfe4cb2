// Package pairing makes a profile of raw records: it pairs those that belong together, such
// as a switch away from the processor with the way back and the wake-up between
// (waits.go), or a system call's beginning with its end (systemcalls.go), decides which
// samples are kept (samplefilter.go), has package resolve name them, and hands what the
// profile has gained to a Sink, or window by window to whom that is for (window.go).
//
// A Consumer belongs to the goroutine that calls Consume. Its profile and facts are that
// goroutine's until Consume has returned.
package pairing

import (
	"errors"
	"fmt"
	"math"
	"runtime/debug"
	"time"

	"entelon/capture/rings"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/resolve"
	"entelon/resolve/raw"
)

// flushEvery is how often what was collected goes to the sink, and so the
// most that a killed collector can lose.
const flushEvery = time.Second

// Consumer makes a profile of the records of a source, as they come. It is a Visitor.
type Consumer struct {
	events   []*rings.Event // what the source's samples mean
	resolver *resolve.Resolver
	facts    *profile.Facts
	Filter   *Filter // nil: all samples are kept

	Waits     *waits       // nil where waiting is not measured
	syscalls  *systemCalls // nil where system calls are not measured
	lastCalls map[uint32]lastCall
	tallies   *tallies
	lives     lives
	own       *ownCode // nil where no sample can be of our own counting
	Counted   Counted
	files     files
	doing     doing
	// DeviceName is the name of a disk by the kernel's number of it; nil: it has none.
	DeviceName func(number uint64) string

	Everyone    bool          // all that runs somewhere is sampled, and not certain processes
	Every       time.Duration // how long a window is, 0: there are none
	Window      func(Window) error
	windowBegan int64  // in nanoseconds since the collection began
	latest      uint64 // the time of the record that was visited last

	bad  error                           // the first
	Note func(r *raw.Record, early bool) // is shown all that comes; nil: nobody wants to see it
}

// NewConsumer prepares for records of events with the columns of measures.
func NewConsumer(events []*rings.Event, ms *Measures, r *resolve.Resolver, facts *profile.Facts) *Consumer {
	c := &Consumer{events: events, resolver: r, facts: facts, lastCalls: map[uint32]lastCall{}}
	c.tallies, c.Counted = newTallies(c), newCounted()
	if countsBesides(events) {
		c.own = &ownCode{is: map[profile.FrameID]bool{}, name: func(f profile.FrameID) string {
			p := r.Builder.Profile()
			return p.FunctionName(p.Frames[f].Function)
		}}
	}
	if column := ms.ColumnOf(measure.Waiting); column >= 0 {
		c.Waits = newWaits(r, column)
	}
	if ms.ColumnOf(measure.Syscalls) >= 0 {
		c.syscalls = newSystemCalls(r)
	}
	return c
}

// Consume takes records until the source ends, and hands what the profile has gained to
// the sink once a second, or each window to whom it is for. After the sink has failed it
// goes on emptying the source, so that it can end. look is called at each round.
func (c *Consumer) Consume(src raw.Source, sink Sink, began time.Time, look func(), stopped func() uint64, broke chan<- error) error {
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
		err := c.turnIfDue(c.latest, false)
		if c.Every == 0 && time.Since(flushed) >= flushEvery {
			flushed = time.Now()
			err = c.flush(sink, began)
		}
		if err != nil {
			failed = true
			broke <- err
		}
	}
	end := stopped()
	c.settle(end)
	c.resolver.NameParked(true)
	c.lives.settle(c.resolver, end)
	if !failed {
		err := c.turnIfDue(max(end, c.latest), true)
		if err == nil {
			err = sink.Append(c.resolver.Builder.Profile())
		}
		if err != nil {
			broke <- err
		}
	}
	if n := src.Dropped(); n > 0 {
		c.facts.Warn("dropped", fmt.Sprintf("%d MB of samples came faster than they could be named, and were dropped.", n>>20), "Collect at a lower rate.")
	}
	return errors.Join(c.bad, src.Err())
}

func (c *Consumer) flush(sink Sink, began time.Time) error {
	if err := sink.Append(c.resolver.Builder.Profile()); err != nil {
		return err
	}
	f := *c.facts
	f.CutOff = c.resolver.CutOff()
	if c.Filter != nil {
		f.LeftOut = c.Filter.Left
	}
	f.DurationNS = time.Since(began).Nanoseconds()
	return sink.Facts(f)
}

// Early implements Visitor.
func (c *Consumer) Early(r *raw.Record) {
	if c.Note != nil {
		c.Note(r, true)
	}
	switch r.Kind {
	case raw.CodeRead:
		c.resolver.LearnCode(r)
	case raw.Mapped:
		c.fail(c.resolver.Processes.Glance(r))
	}
}

func (c *Consumer) fail(err error) {
	if c.bad == nil {
		c.bad = err
	}
}

// Visit implements Visitor.
func (c *Consumer) Visit(r *raw.Record) {
	c.latest = max(c.latest, r.Time)
	c.tallies.release(r.Time)
	if c.Note != nil {
		c.Note(r, false)
	}
	switch r.Kind {
	case raw.Sampled:
		c.fail(c.sampled(r))
	case raw.SamplesLost:
		c.facts.Lost += r.Count
		c.lose()
	case raw.Throttled:
		c.facts.Throttled++
	case raw.SwitchedOut, raw.SwitchedIn:
		if c.Waits != nil {
			c.Waits.switched(r)
		}
	case raw.Tallied, raw.GoingOn:
		c.tallies.summed(r)
	case raw.Passed:
		c.tallies.passed(r)
	case raw.Scheduled:
		c.tallies.scheduled(r)
	case raw.Happened:
		c.tallies.happened(r)
	case raw.Filed:
		c.filed(r.File)
	case raw.Labelled:
		if c.lives.keep {
			c.doing.labelled(c.resolver, r)
		}
	case raw.Ended:
		c.gone(r)
		c.lives.ended(r, c.resolver)
		c.resolver.Processes.Apply(r)
	default:
		c.resolver.Processes.Apply(r)
	}
}

// sampled takes one sample for what it stands for.
func (c *Consumer) sampled(r *raw.Record) error {
	if r.Event < 0 || r.Event >= len(c.events) {
		return errors.New("a sample of an unknown event")
	}
	e := c.events[r.Event]
	if e.Tallied {
		c.tallies.sampled(r, e)
		return nil
	}
	if c.Filter != nil && !e.Beside() && c.Filter.early(r, e) {
		return nil
	}
	if e.Counts() && !e.Beside() {
		c.Counted.one(e.Column)
	}
	switch e.Role {
	case rings.RoleSwitch:
		c.Waits.left(r)
	case rings.RoleWake:
		if tid, ok := wokenThread(r, e.Point); ok {
			c.Waits.woke(tid, r.Time)
		}
	case rings.RoleEnter:
		return c.syscalls.enter(r, e)
	case rings.RoleLeave:
		c.syscalls.leave(r, e)
	case rings.RoleDisk:
		return countDisk(c.resolver, r, e)
	case rings.RoleCall:
		c.called(r, e)
	default:
		x, f := c.resolver.See(r)
		if e.Clock && c.own != nil && c.own.within(f.Kernel) {
			c.Counted.OwnNS += sampledNS(r, e)
			break
		}
		period := int64(r.Sample.Period)
		if e.Cycles {
			c.resolver.Keep(x, 0, c.resolver.Value(e.Column, int64(r.Sample.Ran), period))
			break
		}
		c.resolver.Keep(x, 0, c.resolver.Value(e.Column, period))
	}
	return nil
}

// sampledNS is the processor time that a sample of a clock stands for.
func sampledNS(r *raw.Record, e *rings.Event) int64 {
	if e.Cycles {
		return int64(r.Sample.Ran)
	}
	return int64(r.Sample.Period)
}

// gone settles what a thread that has ended was in.
func (c *Consumer) gone(r *raw.Record) {
	delete(c.lastCalls, r.TID)
	if c.Waits != nil {
		c.Waits.gone(r.TID)
	}
	if c.syscalls != nil {
		c.syscalls.gone(r.TID, r.Time)
	}
}

// lose lets go of what is going on, for the record of its end may be among those that were
// lost, and the end of something else would be taken for it: it is incomplete, never long.
func (c *Consumer) lose() {
	if c.Waits != nil {
		clear(c.Waits.open)
	}
	if c.syscalls != nil {
		c.syscalls.lose()
	}
}

// settle counts what was going on when the take ended.
func (c *Consumer) settle(at uint64) {
	if c.Waits != nil {
		c.Waits.finish(at)
	}
	if c.syscalls != nil {
		c.syscalls.finish(at)
	}
	c.tallies.release(math.MaxUint64)
	c.doing.finish(c.resolver, at)
	c.Counted.NoName, c.Counted.NoRoom, c.Counted.NoColumn = c.files.lost, c.doing.lost, c.resolver.NoColumn
}
