package rings

import (
	"errors"
	"fmt"
	"time"

	"entelon/linux/bpf"
	"entelon/linux/perf"
	"entelon/resolve/raw"
)

// Source gives what the kernel writes into the rings of perf events.
type Source struct {
	target *Target
	drain  *drainer
	order  order
	pairs  []bpf.Pairing
	held   []round
	reader rawReader
	tally  tallyReader
	bad    error // the first
	rounds uint64
}

// NewSource begins to drain the rings of a target.
func NewSource(t *Target) (*Source, error) {
	d, err := newDrainer(t)
	if err != nil {
		return nil, err
	}
	x := &Source{target: t, tally: tallyReader{tally: t.Tally, ended: map[uint32]bool{}}, drain: d, pairs: make([]bpf.Pairing, len(t.rings)), reader: rawReader{events: t.plan, runTime: perf.RunTime{}}}
	for i := range x.pairs {
		x.pairs[i].Tallied = func(r perf.Record) bool {
			n, known := t.byID[r.ID]
			return known && (t.plan[n].Tallied || t.plan[n].Role == RoleWritten)
		}
	}
	return x, nil
}

// Next implements raw.Source: it hands on one look at all rings.
func (x *Source) Next(v raw.Visitor) bool {
	visit := func(r perf.Record) { x.hand(r, v.Visit) }
	r, ok := x.drain.next()
	if !ok {
		x.order.flush(visit)
		if err := x.tally.finish(v); err != nil {
			x.fail(err)
		}
		return false
	}
	var records []perf.Record
	keep := func(r perf.Record) { records = append(records, r) }
	for i, b := range r.rings {
		err := perf.SplitRecords(b, x.target.isOther, func(r perf.Record) {
			switch r.Kind {
			case perf.RecordOther:
				switch bpf.KindOf(r.Body) {
				case bpf.KindCode:
					x.hand(r, v.Early) // of use to all later samples, whatever becomes of its own
					return
				case bpf.KindInterval, bpf.KindRoutine, bpf.KindEvent, bpf.KindFile, bpf.KindLabel:
					keep(r)
					return
				}
			case perf.RecordMmap2:
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
	if err := x.tally.read(r.at, v); err != nil {
		x.fail(err)
	}
	// A round's last records are handed on with the one after the next.
	if x.held = append(x.held, r); len(x.held) > 2 {
		x.drain.done(x.held[0])
		x.held = x.held[1:]
	}
	return true
}

// hand reads a record and hands it on.
func (x *Source) hand(r perf.Record, visit func(*raw.Record)) {
	var e *Event
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
	if e != nil && e.Role == RoleWritten {
		if out.Sample.Tally == nil {
			return // what it is of was lost
		}
		// Of a thread that is about to be gone the kernel itself gives no numbers any more.
		k := out.Sample.Tally.Class
		out.Event, out.PID, out.TID = k.Event, k.PID, k.TID
	}
	if out.Kind == raw.Ended {
		x.reader.runTime.Gone(out.TID, x.target.cpus)
		x.tally.gone(out.TID)
	}
	visit(out)
}

// maxRunTimes is how many threads by processors are remembered.
const maxRunTimes = 1 << 18

// forget lets go of what belongs to samples that never came.
func (x *Source) forget(now uint64) {
	const rounds = 64
	if x.rounds++; x.rounds%rounds != 0 {
		return
	}
	if len(x.reader.runTime) > maxRunTimes { // whose ends were lost
		clear(x.reader.runTime)
	}
	for i := range x.pairs {
		x.pairs[i].Forget(now - min(now, uint64(time.Second)))
	}
}

func (x *Source) fail(err error) {
	if x.bad == nil {
		x.bad = err
	}
}

// Stop implements raw.Source.
func (x *Source) Stop() error {
	return errors.Join(x.tally.stop(), x.target.disable(), x.drain.finish())
}

// Err implements raw.Source.
func (x *Source) Err() error {
	x.drain.mu.Lock()
	defer x.drain.mu.Unlock()
	return errors.Join(x.bad, x.drain.err)
}

// Dropped implements raw.Source.
func (x *Source) Dropped() int64 {
	x.drain.mu.Lock()
	defer x.drain.mu.Unlock()
	return x.drain.dropped
}

// Discard waits until the rings are not looked at any more: only then may they be
// unmapped.
func (x *Source) Discard() error { return x.drain.discard() }

// Close implements raw.Source.
func (x *Source) Close() error { return errors.Join(x.Discard(), x.target.Close()) }

// Play hands on what stood in one ring, as if it had been drained. It is for tests of what
// is made of records.
func Play(events []*Event, ids map[uint64]int, isOther func(id uint64) bool, ring []byte, v raw.Visitor) error {
	x := &Source{target: &Target{plan: events, byID: ids}, reader: rawReader{events: events, runTime: perf.RunTime{}}}
	var pairs bpf.Pairing
	err := perf.SplitRecords(ring, isOther, func(r perf.Record) {
		x.hand(r, v.Early)
		pairs.Visit(r, func(r perf.Record) { x.hand(r, v.Visit) })
	})
	return errors.Join(err, x.bad)
}
