package pairing

import (
	"fmt"
	"strconv"

	"entelon/capture/rings"
	"entelon/core/profile"
	"entelon/resolve"
	"entelon/resolve/raw"
)

// systemCalls measures system calls from entering the kernel to leaving it.
type systemCalls struct {
	r    *resolve.Resolver
	open map[uint32]systemCall // by thread
	name map[uint64]profile.FrameID
	met  map[uint32]bool // threads of which calls were seen: only before, one may have begun unseen
	lost bool            // records were

	counted *Counted // nil: calls are not kept with their beginning and their end
}

type systemCall struct {
	resolve.Seen
	column int
	begin  uint64
	number uint64
	mark   profile.FrameID
}

func newSystemCalls(r *resolve.Resolver) *systemCalls {
	return &systemCalls{r: r, open: map[uint32]systemCall{}, name: map[uint64]profile.FrameID{}, met: map[uint32]bool{}}
}

func (c *systemCalls) mark(number uint64) profile.FrameID {
	f, ok := c.name[number]
	if !ok {
		name := strconv.FormatUint(number, 10)
		if number < uint64(len(systemCallNames)) && systemCallNames[number] != "" {
			name = systemCallNames[number]
		}
		f = c.r.Builder.Mark(profile.SystemCall, profile.SystemCallKey(name))
		c.name[number] = f
	}
	return f
}

func (c *systemCalls) enter(rec *raw.Record, e *rings.Event) error {
	x, _ := c.r.See(rec)
	number, ok := e.Point.Fields["id"].Number(rec.Sample.Data)
	if !ok {
		return fmt.Errorf("a system call without a number")
	}
	c.met[rec.TID] = true
	c.open[rec.TID] = systemCall{Seen: x, column: e.Column, begin: rec.Time, number: number, mark: c.mark(number)}
	return nil
}

func (c *systemCalls) leave(rec *raw.Record, e *rings.Event) {
	number, known := e.Point.Fields["id"].Number(rec.Sample.Data)
	x, ok := c.open[rec.TID]
	if ok && (!known || number != x.number && int64(number) >= 0) {
		delete(c.open, rec.TID) // the end of another one
		c.incomplete(x)
		return
	}
	if !ok {
		if !known || int64(number) < 0 { // it returns from a signal handler
			return
		}
		p := c.r.Processes.Get(rec.PID)
		x = systemCall{
			Seen: resolve.Seen{Of: p, Thread: c.r.Processes.Thread(p, rec.TID), Time: rec.Time, Ready: true, Stack: c.r.Builder.Push(0, c.r.Mark(profile.BeganBefore))},
			// A process that was just made leaves the call that made it.
			column: e.Column, begin: max(c.r.Origin, c.r.Processes.Born(rec.TID)), mark: c.mark(number),
		}
		if c.lost || c.met[rec.TID] {
			x.begin = rec.Time // its beginning was lost
		}
		c.met[rec.TID] = true
	}
	delete(c.open, rec.TID)
	c.count(x, rec.Time)
}

func (c *systemCalls) count(x systemCall, until uint64) {
	if c.counted != nil {
		c.counted.Intervals[x.column]++
		begin := max(x.begin, c.r.Origin)
		c.r.KeepInterval(resolve.Passed{Seen: x.Seen, Mark: x.mark, Kind: profile.IntervalCall, From: begin, To: max(begin, until)})
	}
	c.r.Keep(x.Seen, x.mark, c.r.Value(x.column, int64(until-min(until, x.begin)), 1))
}

// incomplete counts a call whose end was not seen, without its time.
func (c *systemCalls) incomplete(x systemCall) { c.count(x, x.begin) }

// lose makes all calls that are going on incomplete.
func (c *systemCalls) lose() {
	for _, x := range c.open {
		c.incomplete(x)
	}
	clear(c.open)
	c.lost = true
}

// part counts the time so far of calls that go on, and has the rest count from then on.
func (c *systemCalls) part(at uint64) {
	for tid, x := range c.open {
		if !c.r.Processes.Alive(x.Of.PID, tid) {
			delete(c.open, tid) // that it ended was lost
			continue
		}
		if x.begin >= at {
			continue
		}
		c.r.Keep(x.Seen, x.mark, c.r.Value(x.column, int64(at-x.begin), 0))
		x.begin, x.At = at, max(x.At, c.r.Since(at))
		c.open[tid] = x
	}
}

// carry takes what goes on into another profile.
func (c *systemCalls) carry(to profile.Carry) {
	clear(c.name)
	for tid, x := range c.open {
		x.Seen, x.mark = resolve.Carried(x.Seen, to), to.Frame(x.mark)
		c.open[tid] = x
	}
}

// gone counts the call that a thread was in when it ended.
func (c *systemCalls) gone(tid uint32, at uint64) {
	delete(c.met, tid)
	if x, ok := c.open[tid]; ok {
		delete(c.open, tid)
		c.count(x, at)
	}
}

// finish counts the calls that are going on when the take ends.
func (c *systemCalls) finish(at uint64) {
	for _, x := range c.open {
		c.count(x, at)
	}
	clear(c.open)
}
