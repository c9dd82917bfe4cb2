package pairing

import (
	"testing"

	"entelon/capture/rings"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/resolve/raw"
	"entelon/unwind"
)

// TestPassed: a wait that has ended is one interval until its thread was woken and another until it
// had a processor, with who woke it; a call has what it returned, if it did; windows keep none.
func TestPassed(t *testing.T) {
	for _, keep := range []bool{true, false} {
		c := testConsumer(t, measure.Waiting, measure.Syscalls)
		c.events = []*rings.Event{{Role: rings.RoleSwitch, Tallied: true, Copied: true}, {Role: rings.RoleWake, Tallied: true, Copied: true}, {Role: rings.RoleEnter, Tallied: true, Copied: true, Column: 1}}
		c.resolver.Origin = 1000
		c.KeepIntervals(keep)
		waiter := raw.Class{PID: 7, TID: 8, Event: 0, IP: 0x1000, SP: 0x7000}
		waker := raw.Class{PID: 7, TID: 9, Event: 1, IP: 0x2000, SP: 0x8000}
		call := raw.Class{PID: 7, TID: 9, Event: 2, IP: 0x2000, SP: 0x8000, What: 202}
		for _, k := range []raw.Class{waiter, waker} {
			s := &raw.Sample{Copied: true, Known: true, Tally: &raw.Tally{Class: k}}
			s.Registers.Set(unwind.PC, k.IP)
			c.Visit(&raw.Record{Kind: raw.Sampled, PID: k.PID, TID: k.TID, Time: 2000, Event: k.Event, Sample: s})
		}
		pass := func(x raw.Interval) {
			c.Visit(&raw.Record{Kind: raw.Passed, PID: x.Class.PID, TID: x.Class.TID, Time: x.End, Interval: &x})
		}
		pass(raw.Interval{Class: waiter, Begin: 2000, Woken: 5000, End: 5600, HasWaker: true, Waker: waker, Processor: 3})
		pass(raw.Interval{Class: waiter, Begin: 500, Woken: 500, End: 1500}) // preempted, and before the take began
		pass(raw.Interval{Class: call, Begin: 6000, End: 7000, Result: -11, Returned: true})
		pass(raw.Interval{Class: call, Begin: 8000, End: 9000}) // its thread ended in it
		pass(raw.Interval{Class: raw.Class{Event: 99}, Begin: 1, End: 2})
		p := c.resolver.Builder.Profile()
		v := &p.Intervals
		if !keep {
			if v.Len() != 0 || len(c.Counted.Intervals) != 0 {
				t.Errorf("a window has %d intervals", v.Len())
			}
			continue
		}
		type want struct {
			kind            profile.IntervalKind
			start, duration int64
			tid             uint32
		}
		for i, w := range []want{
			{profile.IntervalWait, 1000, 3000, 8}, {profile.IntervalReady, 4000, 600, 8}, {profile.IntervalReady, 0, 500, 8}, {profile.IntervalCall, 5000, 1000, 9}, {profile.IntervalCall, 7000, 1000, 9},
		} {
			if i >= v.Len() {
				t.Fatalf("%d intervals", v.Len())
			}
			if got := (want{v.Kind[i], v.Start[i], v.Duration[i], p.Threads[v.Thread[i]].TID}); got != w {
				t.Errorf("interval %d is %+v, want %+v", i, got, w)
			}
		}
		if l := v.Ended; len(l.Interval) != 1 || l.Interval[0] != 0 || p.Threads[l.Thread[0]].TID != 9 || l.Stack[0] == 0 {
			t.Errorf("who ended them: %+v", l)
		}
		if a := p.AttributeNamed(profile.AttributeResult); len(a.Value) != 1 || a.Value[0] != -11 || a.Interval[0] != 3 {
			t.Errorf("results: %+v", a)
		}
		if a := p.AttributeNamed(profile.AttributeProcessor); len(a.Value) != 2 || a.Value[0] != 3 {
			t.Errorf("processors: %+v", a)
		}
		if c.Counted.Intervals[0] != 2 || c.Counted.Intervals[1] != 2 {
			t.Errorf("counted: %v", c.Counted.Intervals)
		}
		if err := p.Check(); err != nil {
			t.Error(err)
		}
	}
}

// TestLives: a thread is there from when it began to when it ended, or to the end of the take.
func TestLives(t *testing.T) {
	c := testConsumer(t, measure.Syscalls)
	c.events = []*rings.Event{{Role: rings.RoleEnter, Tallied: true, Copied: true}}
	c.resolver.Origin = 1000
	c.KeepIntervals(true)
	c.Visit(&raw.Record{Kind: raw.Started, PID: 7, TID: 9, Time: 3000, Parent: raw.Parent{PID: 7, TID: 8}})
	for _, tid := range []uint32{8, 9} {
		x := raw.Interval{Class: raw.Class{PID: 7, TID: tid, Before: true}, Begin: 3500, End: 3600}
		c.Visit(&raw.Record{Kind: raw.Passed, PID: 7, TID: tid, Time: 3600, Interval: &x})
	}
	c.Visit(&raw.Record{Kind: raw.Ended, PID: 7, TID: 9, Time: 5000})
	c.lives.settle(c.resolver, 9000)
	p := c.resolver.Builder.Profile()
	got := map[uint32][2]int64{}
	for i, k := range p.Intervals.Kind {
		if k == profile.IntervalAlive {
			got[p.Threads[p.Intervals.Thread[i]].TID] = [2]int64{p.Intervals.Start[i], p.Intervals.Start[i] + p.Intervals.Duration[i]}
		}
	}
	if got[8] != [2]int64{0, 8000} || got[9] != [2]int64{2000, 4000} || len(got) != 2 {
		t.Errorf("threads were there %v", got)
	}
}
