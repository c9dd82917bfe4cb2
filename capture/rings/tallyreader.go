package rings

import (
	"errors"
	"sync/atomic"
	"time"

	"entelon/linux/bpf"
	"entelon/linux/perf"
	"entelon/resolve/raw"
)

// tallyReader hands on what the kernel's programs add up.
type tallyReader struct {
	tally *bpf.Tally // nil: nothing is
	last  uint64     // when it was read last
	many  bool       // there were many classes then
	took  uint64     // how long that took, in nanoseconds
	ended map[uint32]bool
	// ending is when the collection ended, monotonic nanoseconds; 0: it goes on.
	ending atomic.Uint64
}

const (
	tallyEvery = uint64(time.Second)
	// tallyShare is which part of the time reading may take where threads have ended, whose
	// classes, and with them their programs, are kept until they are read.
	tallyShare = 100
	// manyClasses is from when on they are read at each round, so that those of threads
	// that have ended make room.
	manyClasses = 1 << 13
)

// gone notes a thread that has ended: all its samples were handed on.
func (x *tallyReader) gone(tid uint32) {
	if x.tally != nil {
		x.ended[tid] = true
	}
}

// stop ends the counting.
func (x *tallyReader) stop() error {
	if x.tally == nil {
		return nil
	}
	x.ending.Store(perf.Now())
	return x.tally.End()
}

// read hands on all sums if it is time to, and lets go of those of threads that have ended.
func (x *tallyReader) read(now uint64, v raw.Visitor) error {
	if x.tally == nil || !x.many && now-x.last < tallyEvery && (len(x.ended) == 0 || now-x.last < tallyShare*x.took) {
		return nil
	}
	x.last = now
	err := x.visit(v, false)
	x.took = perf.Now() - now
	return err
}

func (x *tallyReader) visit(v raw.Visitor, last bool) error {
	n := 0
	var over []bpf.TallyKey
	err := x.tally.Read(func(k bpf.TallyKey, s bpf.TallySum) {
		n++
		r := raw.Record{Kind: raw.Tallied, PID: k.Pid, TID: k.Tid, Event: int(k.Event), Tally: tallyOf(k, s), Last: last || x.ended[k.Tid]}
		v.Visit(&r)
		if r.Last && !last {
			over = append(over, k)
		}
	})
	for _, k := range over {
		err = errors.Join(err, x.tally.Forget(k))
	}
	x.many = n > manyClasses
	clear(x.ended)
	return err
}

// finish hands on all sums, once more, and what goes on when the collection ends.
func (x *tallyReader) finish(v raw.Visitor) error {
	if x.tally == nil {
		return nil
	}
	end := x.ending.Load()
	err := x.tally.Open(func(tid uint32, o bpf.TallyOpen, goroutine uint64) {
		if o.Begin >= end {
			return
		}
		t := tallyOf(o.Key, bpf.TallySum{Sum: end - o.Begin})
		switch {
		case o.Preempted != 0:
			t.Sum, t.Run = 0, t.Sum
		case o.Woken > o.Begin && o.Woken < end:
			t.Sum, t.Run = int64(o.Woken-o.Begin), int64(end-o.Woken)
		}
		v.Visit(&raw.Record{Kind: raw.GoingOn, PID: o.Key.Pid, TID: tid, Event: int(o.Key.Event), Tally: t})
		i := intervalOf(bpf.TallyInterval{Key: o.Key, Begin: o.Begin, End: end, Goroutine: goroutine})
		i.Open, i.Woken = true, end-uint64(t.Run)
		v.Visit(&raw.Record{Kind: raw.Passed, PID: o.Key.Pid, TID: tid, Time: end, Interval: &i})
	})
	err = errors.Join(err, x.tally.OpenRoutines(end, func(pid uint32, o bpf.Routine) {
		if o.Wait.Begin > end || o.Carried > end {
			return
		}
		i := routineOf(o)
		i.Wait.Open = true
		v.Visit(&raw.Record{Kind: raw.Scheduled, PID: pid, TID: o.Carrier, Time: end, Routine: &i})
	}))
	return errors.Join(err, x.visit(v, true))
}
