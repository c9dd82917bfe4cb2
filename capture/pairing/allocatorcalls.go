package pairing

import (
	"strings"

	"entelon/capture/rings"
	"entelon/resolve"
	"entelon/resolve/raw"
	"entelon/unwind"
)

// Allocators are the functions of the C library that allocate, with the
// arguments whose product is the size.
var Allocators = []struct {
	Name string
	Size []int
}{
	{"malloc", []int{1}}, {"calloc", []int{1, 2}}, {"realloc", []int{2}}, {"reallocarray", []int{2, 3}}, {"memalign", []int{2}},
	{"aligned_alloc", []int{2}}, {"posix_memalign", []int{3}}, {"valloc", []int{1}}, {"pvalloc", []int{1}},
}

// called counts one call of a function.
func (c *Consumer) called(rec *raw.Record, e *rings.Event) {
	r := c.resolver
	x, f := r.See(rec)
	if len(e.Size) == 0 {
		r.Keep(x, 0, r.Value(e.Column, 1))
		return
	}
	if e.Allocator && c.withinAllocator(x.Of, rec, f, e) {
		return
	}
	size := int64(1)
	for _, n := range e.Size {
		size *= int64(rec.Sample.Registers.Value[n])
	}
	// A size that is none: the call fails, and asks for nothing that it could get.
	if size < 0 {
		size = 0
	}
	r.Keep(x, 0, r.Value(e.Column, size, 1))
}

// lastCall is where a thread's last call of an allocator was, and of which one.
type lastCall struct {
	of             *rings.Event
	sp, returnedTo uint64
}

// withinAllocator reports whether the C library's allocator calls itself: with
// a frame of its own, or by jumping to another of its functions, which then
// has the same stack pointer and returns to the same place.
func (c *Consumer) withinAllocator(p *resolve.Process, rec *raw.Record, f *resolve.Frames, e *rings.Event) bool {
	now := lastCall{of: e, sp: rec.Sample.Registers.Value[unwind.RSP]}
	now.returnedTo, _ = rec.Sample.Memory.Word(now.sp)
	last := c.lastCalls[rec.TID]
	if last.of != nil && last.of != e && last.sp == now.sp && last.returnedTo == now.returnedTo {
		return true // it jumped from there; the first of such a chain begins the next one, too
	}
	c.lastCalls[rec.TID] = now
	return c.calledByAllocator(p, rec, f)
}

// calledByAllocator reports whether a function of the C library's allocator called it.
func (c *Consumer) calledByAllocator(p *resolve.Process, rec *raw.Record, f *resolve.Frames) bool {
	if len(f.Steps) < 2 {
		return false
	}
	here, from := p.Find(f.Steps[0].Address), p.Find(f.Steps[1].Address)
	if here == nil || from == nil || here.Module != from.Module {
		return false // an allocator of the program's own may have the same names
	}
	prof := c.resolver.Builder.Profile()
	name := prof.FunctionName(prof.Frames[c.resolver.Innermost(p, f.Steps[1], rec.Time)].Function)
	name = strings.TrimPrefix(name, "__libc_")
	name = strings.TrimPrefix(name, "__")
	for _, a := range Allocators {
		if name == a.Name {
			return true
		}
	}
	return false
}
