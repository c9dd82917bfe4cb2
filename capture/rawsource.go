package capture

import (
	"errors"
	"fmt"
	"time"

	"entelon/linux/bpf"
	"entelon/linux/perf"
	"entelon/resolve/raw"
)

// Source gives raw records, whoever makes them. One goroutine asks it for them; Stop may
// be called by another.
type Source interface {
	// Next waits for what comes next and hands it on in the order of time; it returns
	// false when nothing more will come. A visitor must not keep what it is given.
	Next(Visitor) bool
	// Stop ends the collection: Next then hands on what is left, and no more.
	Stop() error
	// Err is what went wrong so far, with what of it was lost.
	Err() error
	// Dropped is how many bytes came faster than they were asked for, and are lost.
	Dropped() int64
	// Close lets go of everything, when Next has returned false or was never called.
	Close() error
}

// Visitor takes raw records.
type Visitor interface {
	// Early is given mappings and code objects as they come, before their turn.
	Early(*raw.Record)
	// Visit is given all records but code objects, in the order of time.
	Visit(*raw.Record)
}

// ringSource gives what the kernel writes into the rings of perf events.
type ringSource struct {
	target *target
	drain  *drainer
	order  order
	pairs  []bpf.Pairing
	held   []round
	reader rawReader
	bad    error // the first
	rounds uint64
}

func newRingSource(t *target) (*ringSource, error) {
	d, err := newDrainer(t)
	if err != nil {
		return nil, err
	}
	x := &ringSource{target: t, drain: d, pairs: make([]bpf.Pairing, len(t.rings)), reader: rawReader{runTime: perf.RunTime{}}}
	for i := range x.pairs {
		x.pairs[i] = bpf.Pairing{}
	}
	return x, nil
}

// Next implements Source: it hands on one look at all rings.
func (x *ringSource) Next(v Visitor) bool {
	visit := func(r perf.Record) { x.hand(r, v.Visit) }
	r, ok := x.drain.next()
	if !ok {
		x.order.flush(visit)
		return false
	}
	var records []perf.Record
	keep := func(r perf.Record) { records = append(records, r) }
	for i, b := range r.rings {
		err := perf.SplitRecords(b, x.target.isOther, func(r perf.Record) {
			switch {
			case r.Kind == perf.RecordOther && bpf.KindOf(r.Body) == bpf.KindCode:
				x.hand(r, v.Early) // of use to all later samples, whatever becomes of its own
				return
			case r.Kind == perf.RecordMmap2:
				x.hand(r, v.Early)
			}
			x.pairs[i].Visit(r, keep)
		})
		if err != nil {
			x.fail(fmt.Errorf("reading a ring: %w", err))
		}
	}
	x.forget(r.at)
	x.order.add(records, r.at, visit)
	// A round's last records are handed on with the one after the next.
	if x.held = append(x.held, r); len(x.held) > 2 {
		x.drain.done(x.held[0])
		x.held = x.held[1:]
	}
	return true
}

// hand reads a record and hands it on.
func (x *ringSource) hand(r perf.Record, visit func(*raw.Record)) {
	var e *event
	n := 0
	if r.Kind == perf.RecordSample {
		if x.target.doubled(r) {
			return
		}
		var known bool
		if n, known = x.target.byID[r.ID]; !known {
			x.fail(errors.New("a sample of an event that was not opened"))
			return
		}
		e = x.target.plan[n]
	}
	out, err := x.reader.read(r, e)
	if err != nil {
		x.fail(err)
		return
	}
	if out == nil {
		return
	}
	out.Event = n
	if out.Kind == raw.Ended {
		x.reader.runTime.Gone(out.TID, x.target.cpus)
	}
	visit(out)
}

// mostRunTimes is how many threads by processors are remembered.
const mostRunTimes = 1 << 18

// forget lets go of what belongs to samples that never came.
func (x *ringSource) forget(now uint64) {
	const rounds = 64
	if x.rounds++; x.rounds%rounds != 0 {
		return
	}
	if len(x.reader.runTime) > mostRunTimes { // whose ends were lost
		clear(x.reader.runTime)
	}
	for _, p := range x.pairs {
		for tid, waiting := range p {
			if waiting[len(waiting)-1].Time+bpf.OtherDelay < now-min(now, uint64(time.Second)) {
				delete(p, tid)
			}
		}
	}
}

func (x *ringSource) fail(err error) {
	if x.bad == nil {
		x.bad = err
	}
}

// Stop implements Source.
func (x *ringSource) Stop() error { return errors.Join(x.target.disable(), x.drain.finish()) }

// Err implements Source.
func (x *ringSource) Err() error {
	x.drain.mu.Lock()
	defer x.drain.mu.Unlock()
	return errors.Join(x.bad, x.drain.err)
}

// Dropped implements Source.
func (x *ringSource) Dropped() int64 {
	x.drain.mu.Lock()
	defer x.drain.mu.Unlock()
	return x.drain.dropped
}

// Close implements Source. It waits until the rings are not looked at any more: only
// then may they be unmapped.
func (x *ringSource) Close() error { return errors.Join(x.drain.discard(), x.target.close()) }
