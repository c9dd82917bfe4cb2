package capture

import (
	"fmt"
	"strconv"
	"strings"

	"entelon/core/profile"
	"entelon/linux/perf"
	"entelon/resolve"
	"entelon/unwind"
)

// systemCalls measures system calls from entering the kernel to leaving it.
type systemCalls struct {
	r    *resolve.Resolver
	open map[uint32]systemCall // by thread
	name map[uint64]profile.FrameID
}

type systemCall struct {
	resolve.Seen
	column int
	begin  uint64
	mark   profile.FrameID
}

func newSystemCalls(r *resolve.Resolver) *systemCalls {
	return &systemCalls{r: r, open: map[uint32]systemCall{}, name: map[uint64]profile.FrameID{}}
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

func (c *systemCalls) enter(rec perf.Record, src *source) error {
	x, err := c.r.See(rec, src.form())
	if err != nil {
		return err
	}
	number, ok := src.point.Fields["id"].Number(c.r.Sample.Raw)
	if !ok {
		return fmt.Errorf("a system call without a number")
	}
	c.open[rec.TID] = systemCall{Seen: x, column: src.column, begin: rec.Time, mark: c.mark(number)}
	return nil
}

func (c *systemCalls) leave(rec perf.Record, src *source) {
	x, ok := c.open[rec.TID]
	if !ok {
		number, known := src.point.Fields["id"].Number(perf.RawOf(rec))
		if !known || int64(number) < 0 { // it returns from a signal handler
			return
		}
		p := c.r.Processes.Get(rec.PID)
		x = systemCall{
			Seen: resolve.Seen{Of: p, Thread: c.r.Processes.Thread(p, rec.TID), Time: rec.Time, Ready: true, Stack: c.r.Builder.Push(0, c.r.Mark(profile.BeganBefore))},
			// A process that was just made leaves the call that made it.
			column: src.column, begin: max(c.r.Origin, c.r.Processes.Born[rec.TID]), mark: c.mark(number),
		}
	}
	delete(c.open, rec.TID)
	c.count(x, rec.Time)
}

func (c *systemCalls) count(x systemCall, until uint64) {
	c.r.Keep(x.Seen, x.mark, c.r.Value(x.column, int64(until-min(until, x.begin)), 1))
}

// gone counts the call that a thread was in when it ended.
func (c *systemCalls) gone(tid uint32, at uint64) {
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

// disk counts one request to a disk.
func (s *session) disk(rec perf.Record, src *source) error {
	r := s.resolver
	x, err := r.See(rec, src.form())
	if err != nil {
		return err
	}
	raw := r.Sample.Raw
	sectors, ok := src.point.Fields["nr_sector"].Number(raw)
	if !ok {
		return fmt.Errorf("a request to a disk without a size")
	}
	const sector = 512 // the kernel counts in these, whatever the disk's own are
	kind := ""
	if f := src.point.Fields["rwbs"]; f.Offset+f.Size <= len(raw) {
		kind = string(raw[f.Offset : f.Offset+f.Size])
	}
	mark := profile.DiskOther
	switch {
	case strings.Contains(kind, "R"):
		mark = profile.DiskRead
	case strings.Contains(kind, "W"):
		mark = profile.DiskWrite
	case strings.Contains(kind, "D"):
		mark = profile.DiskDiscard
	case strings.Contains(kind, "F"):
		mark = profile.DiskFlush
	}
	r.Keep(x, r.Mark(mark), r.Value(src.column, int64(sectors*sector), 1))
	return nil
}

// called counts one call of a function.
func (s *session) called(rec perf.Record, src *source) error {
	r := s.resolver
	x, err := r.See(rec, src.form())
	if err != nil {
		return err
	}
	if len(src.size) == 0 {
		r.Keep(x, 0, r.Value(src.column, 1))
		return nil
	}
	if src.allocator && s.withinAllocator(x.Of, rec.TID, src) {
		return nil
	}
	size, registers := int64(1), resolve.RegistersOf(&r.Sample)
	for _, n := range src.size {
		size *= int64(registers.Value[n])
	}
	// A size that is none: the call fails, and asks for nothing that it could get.
	if size < 0 {
		size = 0
	}
	r.Keep(x, 0, r.Value(src.column, size, 1))
	return nil
}

// lastCall is where a thread's last call of an allocator was, and of which one.
type lastCall struct {
	of             *source
	sp, returnedTo uint64
}

// withinAllocator reports whether the C library's allocator calls itself: with
// a frame of its own, or by jumping to another of its functions, which then
// has the same stack pointer and returns to the same place.
func (s *session) withinAllocator(p *resolve.Process, tid uint32, src *source) bool {
	registers := resolve.RegistersOf(&s.resolver.Sample)
	r := s.resolver
	now := lastCall{of: src, sp: registers.Value[unwind.RSP]}
	if len(r.Sample.Stack) >= 8 {
		now.returnedTo = perf.Word(r.Sample.Stack)
	}
	last := s.lastCalls[tid]
	if last.of != nil && last.of != src && last.sp == now.sp && last.returnedTo == now.returnedTo {
		return true // it jumped from there; the first of such a chain begins the next one, too
	}
	s.lastCalls[tid] = now
	if len(r.Steps) < 2 {
		return false
	}
	here, from := p.Find(r.Steps[0].Address), p.Find(r.Steps[1].Address)
	if here == nil || from == nil || here.Module != from.Module {
		return false // an allocator of the program's own may have the same names
	}
	caller := r.UserFrames(p, r.Steps[1])
	prof := r.Builder.Profile()
	name := prof.FunctionName(prof.Frames[caller[0]].Function)
	name = strings.TrimPrefix(name, "__libc_")
	name = strings.TrimPrefix(name, "__")
	for _, a := range allocators {
		if name == a.name {
			return true
		}
	}
	return false
}
