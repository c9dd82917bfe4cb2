package pairing

import (
	"strings"

	"entelon/capture/rings"
	"entelon/core/profile"
)

// Counted is what a Consumer has counted, by column of the profile.
type Counted struct {
	Events map[int]int64 // of a counted measure, by its first column
	Singly map[int]int64 // those that have a sample of their own
	// Intervals are those that are kept with their beginning and their end.
	Intervals map[int]int64
	// NoName are files and sockets whose names found no room, NoRoom spans that labels name, and NoColumn what
	// is known of events beyond the columns that a take can have.
	NoName, NoRoom, NoColumn int64
	OwnNS                    int64 // processor time of samples in the kernel's part of our own counting
}

func newCounted() Counted {
	return Counted{Events: map[int]int64{}, Singly: map[int]int64{}, Intervals: map[int]int64{}}
}

// one counts an event that has a sample and stands for itself.
func (c *Counted) one(column int) {
	c.Events[column]++
	c.Singly[column]++
}

// tracingFunctions are those of the kernel in which it runs programs at events and writes
// records of them. A name that ends with * is a beginning.
var tracingFunctions = []string{
	"perf_trace_*", "perf_tp_event", "perf_swevent_event", "___perf_sw_event", "__perf_sw_event", "trace_call_bpf", "bpf_trace_run*", "__bpf_trace_*",
	"bpf_overflow_handler", "__perf_event_overflow", "perf_event_output*", "uprobe_notify_resume", "uprobe_dispatcher", "handle_swbp", "exc_int3", "asm_exc_int3",
	"perf_syscall_enter", "perf_syscall_exit", "__traceiter_*",
}

// ownCode tells samples of our own counting from those of the program.
type ownCode struct {
	name func(profile.FrameID) string
	is   map[profile.FrameID]bool
}

func (o *ownCode) within(kernel []profile.FrameID) bool {
	for _, f := range kernel {
		is, known := o.is[f]
		if !known {
			is = traces(o.name(f))
			o.is[f] = is
		}
		if is {
			return true
		}
	}
	return false
}

func traces(name string) bool {
	for _, n := range tracingFunctions {
		if begin, open := strings.CutSuffix(n, "*"); open && strings.HasPrefix(name, begin) || n == name {
			return true
		}
	}
	return false
}

// countsBesides reports whether events are counted beside the clock's samples, so that
// some of these are of the counting.
func countsBesides(events []*rings.Event) bool {
	clock, other := false, false
	for _, e := range events {
		clock, other = clock || e.Clock, other || e.Counts()
	}
	return clock && other
}
