package capture

import (
	"cmp"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/cilium/ebpf"
	"golang.org/x/sys/unix"

	"entelon/core/measure"
	"entelon/linux/perf"
	"entelon/linux/tracefs"
	"entelon/runtimes/python"
)

// role says what a sample of an event stands for.
type role uint8

const (
	roleCount  role = iota // as much of its column as the event's period says
	roleSwitch             // a thread leaves the processor
	roleWake               // a thread may run again
	roleEnter              // a system call begins
	roleLeave              // and ends
	roleDisk               // a request to a disk
	roleCall               // a call of a function, one of whose arguments may be a size
)

// event is one event that is opened on every thread, with what its samples
// mean.
type event struct {
	attr   *unix.PerfEventAttr
	role   role
	column int  // of the profile, the measure's first
	clock  bool // its count is processor time
	cycles bool // its count is cycles, and the time that it ran is processor time
	raw    bool // the tracepoint's own record comes with the sample
	copied bool // registers and a copy of the stack come with it
	reader bool // the kernel program that reads other stacks runs with it
	point  tracefs.Tracepoint
	// Of a call: which arguments are multiplied to the size, counted from 1; of
	// none, only calls are counted.
	size []int
	// allocator: of the C library, whose functions call each other
	allocator bool
	program   *ebpf.Program // runs with each event, whoever's; nil: none
}

// bare reports whether nothing but the tracepoint's own record comes with its samples.
func (x *event) bare() bool { return x.role == roleWake || x.role == roleLeave }

// plan says which events the measures need. The first event also tells what
// else happens: mappings, new threads, names.
func (s *session) plan(c perf.Clock) (out []*event, err error) {
	if s.counting != nil {
		return s.counting.plan(s, c)
	}
	find := func(group, name string) (tracefs.Tracepoint, error) {
		list, err := s.tracing.list()
		if err != nil {
			return tracefs.Tracepoint{}, err
		}
		return list.Find(group, name)
	}
	deep := c // events without the reader of other stacks copy more themselves
	if c.StackBytes > 0 {
		deep.StackBytes = max(c.StackBytes, tracedStackBytes)
		if (python.Runtime{}).Executable(filepath.Base(s.exe)) { // whose interpreter's frames are large
			deep.StackBytes = max(c.StackBytes, interpretedStackBytes)
		}
	}
	copied := c.StackBytes > 0
	for i, m := range s.measures.chosen {
		column := s.measures.columns[i]
		switch row := m.Row(); row.Way {
		case measure.ByClock:
			cycles := s.o.Settings.Event == EventCycles
			a := perf.Attributes(c)
			if cycles {
				a = c.Cycles()
			}
			s.chosen.modes(a)
			out = append(out, &event{attr: a, column: column, clock: true, cycles: cycles, copied: copied, reader: true})
		case measure.BySoftware:
			config, ok := perf.SoftwareEvents[row.Event]
			if !ok {
				return nil, fmt.Errorf("%s is counted by %q, which the kernel does not have", row.Word, row.Event)
			}
			out = append(out, &event{attr: c.EveryOne(unix.PERF_TYPE_SOFTWARE, config), column: column, copied: copied, reader: true})
		case measure.BySwitches:
			a := c.EveryOne(unix.PERF_TYPE_SOFTWARE, unix.PERF_COUNT_SW_CONTEXT_SWITCHES)
			a.Bits |= unix.PerfBitContextSwitch
			out = append(out, &event{attr: a, role: roleSwitch, column: column, copied: copied, reader: true})
			// The kernel delivers it to the thread that is woken, whoever wakes it.
			p, err := find("sched", "sched_waking")
			if err != nil {
				s.noWake = err
				continue // the time until it runs then counts as what it waited for
			}
			out = append(out, &event{attr: c.Traced(p.ID, false), role: roleWake, column: column, raw: true, point: p})
		case measure.BySystemCalls:
			enter, err1 := find("raw_syscalls", "sys_enter")
			leave, err2 := find("raw_syscalls", "sys_exit")
			if err := errors.Join(err1, err2); err != nil {
				return nil, err
			}
			out = append(out,
				&event{attr: deep.Traced(enter.ID, true), role: roleEnter, column: column, raw: true, copied: copied, point: enter},
				&event{attr: c.Traced(leave.ID, false), role: roleLeave, column: column, raw: true, point: leave})
		case measure.ByDisk:
			p, err := find("block", "block_bio_queue")
			if err != nil {
				return nil, err
			}
			out = append(out, &event{attr: deep.Traced(p.ID, true), role: roleDisk, column: column, raw: true, copied: copied, point: p})
		case measure.ByTracepoint:
			group, name, _ := strings.Cut(cmp.Or(m.Of, row.Event), ":")
			p, err := find(group, name)
			if err != nil {
				return nil, err
			}
			a := deep.Traced(p.ID, true)
			a.Sample_type &^= unix.PERF_SAMPLE_RAW
			out = append(out, &event{attr: a, column: column, copied: copied})
		case measure.ByCalls:
			calls, err := s.calls(m, deep, column)
			if err != nil {
				return nil, err
			}
			out = append(out, calls...)
		}
	}
	for i, x := range out {
		if x.copied && !x.reader && s.other != nil {
			kind := ebpf.TracePoint
			if x.role == roleCall {
				kind = ebpf.Kprobe
			}
			if x.program, err = s.other.Traced(kind, deep.StackBytes); err != nil {
				return nil, err
			}
		}
		if i > 0 {
			x.attr.Bits &^= perf.SideBits
		}
	}
	return out, nil
}

// interpretedStackBytes is that of an interpreter's.
const interpretedStackBytes = 24 << 10

// tracedStackBytes is how much of a stack is copied at a tracepoint or probe.
const tracedStackBytes = 6 << 10
