package capture

import (
	"cmp"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/cilium/ebpf"
	"golang.org/x/sys/unix"

	"entelon/capture/rings"
	"entelon/core/measure"
	"entelon/linux/bpf"
	"entelon/linux/perf"
	"entelon/linux/tracefs"
	"entelon/runtimes/python"
)

// plan says which events the measures need. The first event also tells what
// else happens: mappings, new threads, names.
func (s *session) plan(c perf.Clock) (out []*rings.Event, err error) {
	if s.counting != nil {
		return s.counting.plan(s, c)
	}
	if s.addsUp() {
		out, err := s.planned(c, true)
		if err == nil {
			if err = s.addUp(out, c.StackBytes); err == nil {
				return out, nil
			}
			s.tallyErr = errors.Join(err, s.closeTally())
		} else if slices.ContainsFunc(s.measures.Chosen, follows) {
			return nil, err // there is no other way to do that
		}
	}
	return s.planned(c, false)
}

// follows reports whether a measure follows functions or goroutines.
func follows(m measure.Choice) bool {
	return m.Row().Way == measure.ByReturns || m.Row().Way == measure.ByGoroutines
}

// deepened is how much is copied of stacks at tracepoints and probes where every event is
// written down, since the rest of a deeper stack is not read then.
func deepened(s *session, c perf.Clock) perf.Clock {
	if c.StackBytes > 0 {
		own := tracedStackBytes
		if (python.Runtime{}).Executable(filepath.Base(s.exe)) { // whose interpreter's frames are large
			own = interpretedStackBytes
		}
		c.StackBytes = max(c.StackBytes, own)
	}
	return c
}

// planned is plan; tallied says that the kernel's programs add up what is counted.
func (s *session) planned(c perf.Clock, tallied bool) (out []*rings.Event, err error) {
	find := func(group, name string) (tracefs.Tracepoint, error) {
		list, err := s.tracing.list()
		if err != nil {
			return tracefs.Tracepoint{}, err
		}
		return list.Find(group, name)
	}
	deep := c
	if !tallied {
		deep = deepened(s, c)
	}
	copied := c.StackBytes > 0
	for i, m := range s.measures.Chosen {
		column := s.measures.Columns[i]
		switch row := m.Row(); row.Way {
		case measure.ByClock:
			cycles := s.o.Settings.Event == EventCycles
			a := perf.Attributes(c)
			if cycles {
				a = c.Cycles()
			}
			s.filter.Modes(a)
			if s.facts.ByProcessors {
				out = append(out, &rings.Event{Attr: c.Counting(), Column: column, Timed: true})
				c := c
				c.Everyone, c.Alone, c.OnExec = true, true, false
				a = perf.Attributes(c)
				s.filter.Modes(a)
				out = append(out, &rings.Event{Attr: a, Column: column, Clock: true, Processors: true, Copied: copied, Reader: true})
				continue
			}
			out = append(out, &rings.Event{Attr: a, Column: column, Clock: true, Timed: true, Cycles: cycles, Copied: copied, Reader: true})
		case measure.BySoftware:
			config, ok := perf.SoftwareEvents[row.Event]
			if !ok {
				return nil, fmt.Errorf("%s is counted by %q, which the kernel does not have", row.Word, row.Event)
			}
			out = append(out, &rings.Event{Attr: c.EveryOne(unix.PERF_TYPE_SOFTWARE, config), Column: column, Copied: copied, Reader: true})
		case measure.BySwitches:
			if tallied {
				out = append(out, &rings.Event{Role: rings.RoleSwitch, Column: column, Copied: copied})
				if s.keepsIntervals() {
					out = append(out, &rings.Event{Role: rings.RoleWake, Column: column, Copied: copied})
				}
				continue
			}
			a := c.EveryOne(unix.PERF_TYPE_SOFTWARE, unix.PERF_COUNT_SW_CONTEXT_SWITCHES)
			a.Bits |= unix.PerfBitContextSwitch
			out = append(out, &rings.Event{Attr: a, Role: rings.RoleSwitch, Column: column, Copied: copied, Reader: true})
			// The kernel delivers it to the thread that is woken, whoever wakes it.
			p, err := find("sched", "sched_waking")
			if err != nil {
				s.noWake = err
				continue // the time until it runs then counts as what it waited for
			}
			out = append(out, &rings.Event{Attr: c.Traced(p.ID, false), Role: rings.RoleWake, Column: column, Raw: true, Point: p})
		case measure.BySystemCalls:
			if tallied {
				out = append(out, &rings.Event{Role: rings.RoleEnter, Column: column, Copied: copied})
				continue
			}
			enter, err1 := find("raw_syscalls", "sys_enter")
			leave, err2 := find("raw_syscalls", "sys_exit")
			if err := errors.Join(err1, err2); err != nil {
				return nil, err
			}
			out = append(out,
				&rings.Event{Attr: deep.Traced(enter.ID, true), Role: rings.RoleEnter, Column: column, Raw: true, Copied: copied, Point: enter},
				&rings.Event{Attr: c.Traced(leave.ID, false), Role: rings.RoleLeave, Column: column, Raw: true, Point: leave})
		case measure.ByDisk:
			if tallied {
				out = append(out, &rings.Event{Role: rings.RoleDisk, Column: column, Copied: copied})
				continue
			}
			p, err := find("block", "block_bio_queue")
			if err != nil {
				return nil, err
			}
			out = append(out, &rings.Event{Attr: deep.Traced(p.ID, true), Role: rings.RoleDisk, Column: column, Raw: true, Copied: copied, Point: p})
		case measure.ByTracepoint:
			group, name, _ := strings.Cut(cmp.Or(m.Of, row.Event), ":")
			p, err := find(group, name)
			if err != nil {
				return nil, err
			}
			a := deep.Traced(p.ID, true)
			a.Sample_type &^= unix.PERF_SAMPLE_RAW
			out = append(out, &rings.Event{Attr: a, Column: column, Copied: copied, Point: p})
		case measure.ByReturns, measure.ByGoroutines:
			if !tallied { // their programs run where events are added up
				return nil, fmt.Errorf("%s: %w: %w", m, ErrNotAllowed, cmp.Or(s.tallyErr, bpf.ErrNotRoot))
			}
			events, err := followed(s, m)
			if err != nil {
				return nil, err
			}
			for _, e := range events {
				e.Column, e.Copied = column, copied
				out = append(out, e)
			}
		case measure.ByCalls:
			calls, err := s.calls(m, deep, column)
			if err != nil {
				return nil, err
			}
			out = append(out, calls...)
		}
	}
	out = withWritten(c, out)
	for i, x := range out {
		x.Tallied = tallied && x.Counts()
		if x.Attr != nil && x.Copied && !x.Reader && s.other != nil && !tallied {
			kind := ebpf.TracePoint
			if x.Role == rings.RoleCall {
				kind = ebpf.Kprobe
			}
			if x.Program, err = s.other.Traced(kind, deep.StackBytes, false); err != nil {
				return nil, err
			}
		}
		if i > 0 && x.Attr != nil {
			x.Attr.Bits &^= perf.SideBits
		}
	}
	return out, nil
}

// interpretedStackBytes is that of an interpreter's.
const interpretedStackBytes = 24 << 10

// tracedStackBytes is how much of a stack is copied at a tracepoint or probe.
const tracedStackBytes = 6 << 10

// withWritten adds what events need that have none of their own: one whose samples the programs write,
// and before all, one that tells what else happens.
func withWritten(c perf.Clock, events []*rings.Event) []*rings.Event {
	if !slices.ContainsFunc(events, func(x *rings.Event) bool { return x.Attr == nil }) {
		return events
	}
	column, copied := events[0].Column, c.StackBytes > 0
	if first := events[0]; first.Attr == nil || first.Processors {
		events = slices.Insert(events, 0, &rings.Event{Attr: c.Counting(), Column: column, Timed: true})
	}
	return append(events, &rings.Event{Attr: c.Written(), Role: rings.RoleWritten, Column: column, Copied: copied, Raw: true, Processors: true})
}
