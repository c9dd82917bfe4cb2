package rings

import (
	"encoding/binary"
	"fmt"

	"golang.org/x/sys/unix"

	"entelon/core/profile"
	"entelon/linux/perf"
)

// CounterKinds are what is counted for a whole take where the machine can.
var CounterKinds = []struct {
	Name   string
	Kind   uint32
	Config uint64
}{
	{"context switches", unix.PERF_TYPE_SOFTWARE, unix.PERF_COUNT_SW_CONTEXT_SWITCHES},
	{"migrations between processors", unix.PERF_TYPE_SOFTWARE, unix.PERF_COUNT_SW_CPU_MIGRATIONS},
	{"page faults", unix.PERF_TYPE_SOFTWARE, unix.PERF_COUNT_SW_PAGE_FAULTS}, // those that could not be served and were tried again are in neither of the two
	{"page faults from memory", unix.PERF_TYPE_SOFTWARE, unix.PERF_COUNT_SW_PAGE_FAULTS_MIN},
	{"page faults from disk", unix.PERF_TYPE_SOFTWARE, unix.PERF_COUNT_SW_PAGE_FAULTS_MAJ},
	{"instructions", unix.PERF_TYPE_HARDWARE, unix.PERF_COUNT_HW_INSTRUCTIONS},
	{"cycles", unix.PERF_TYPE_HARDWARE, unix.PERF_COUNT_HW_CPU_CYCLES},
	{"cache references", unix.PERF_TYPE_HARDWARE, unix.PERF_COUNT_HW_CACHE_REFERENCES},
	{"cache misses", unix.PERF_TYPE_HARDWARE, unix.PERF_COUNT_HW_CACHE_MISSES},
	{"branches", unix.PERF_TYPE_HARDWARE, unix.PERF_COUNT_HW_BRANCH_INSTRUCTIONS},
	{"branch misses", unix.PERF_TYPE_HARDWARE, unix.PERF_COUNT_HW_BRANCH_MISSES},
}

// Counters are events that count for the whole take and write no samples.
type Counters struct {
	attrs   []*unix.PerfEventAttr // nil where the machine cannot
	fds     [][]int
	missing []string
	threads int
	clock   *unix.PerfEventAttr // processor time, nil where an event that samples tells it
	clocks  []int
}

// maxCounted is how many threads that were there before are counted: each
// needs a file for each counter.
const maxCounted = 500

// NewCounters prepares those that this machine has.
func NewCounters(c perf.Clock, withClock bool) *Counters {
	s := &Counters{attrs: make([]*unix.PerfEventAttr, len(CounterKinds)), fds: make([][]int, len(CounterKinds))}
	counting := func(kind uint32, config uint64) *unix.PerfEventAttr {
		a := perf.Attributes(c)
		a.Type, a.Config, a.Sample, a.Sample_type = kind, config, 0, 0
		a.Sample_regs_user, a.Sample_stack_user = 0, 0
		a.Bits &^= perf.SideBits
		a.Read_format = unix.PERF_FORMAT_TOTAL_TIME_ENABLED | unix.PERF_FORMAT_TOTAL_TIME_RUNNING
		return a
	}
	if withClock {
		s.clock = counting(unix.PERF_TYPE_SOFTWARE, unix.PERF_COUNT_SW_TASK_CLOCK)
		if c.Everyone { // on a processor the other one counts what runs there
			s.clock.Config = unix.PERF_COUNT_SW_CPU_CLOCK
		}
	}
	for i, k := range CounterKinds {
		a := counting(k.Kind, k.Config)
		probe := *a
		probe.Bits &^= unix.PerfBitEnableOnExec
		fd, err := unix.PerfEventOpen(&probe, 0, -1, -1, unix.PERF_FLAG_FD_CLOEXEC)
		if err != nil {
			s.missing = append(s.missing, k.Name)
			continue
		}
		unix.Close(fd)
		s.attrs[i] = a
	}
	return s
}

// add counts a thread, or everyone on one processor, too, and returns the
// events, which the caller enables and closes.
func (s *Counters) add(tid, cpu, flags int) (fds []int, err error) {
	if s.clock != nil {
		fd, err := perf.Open(s.clock, tid, cpu, flags)
		if err != nil {
			return nil, err
		}
		s.clocks = append(s.clocks, fd)
		fds = append(fds, fd)
	}
	if s.threads++; tid > 0 && s.threads > maxCounted {
		return fds, nil
	}
	for i, a := range s.attrs {
		if a == nil {
			continue
		}
		fd, err := perf.Open(a, tid, cpu, flags)
		if err != nil {
			return fds, err
		}
		s.fds[i] = append(s.fds[i], fd)
		fds = append(fds, fd)
	}
	return fds, nil
}

// Clock returns the processor time in nanoseconds, where it was to be counted.
func (s *Counters) Clock() (ns int64, err error) {
	for _, fd := range s.clocks {
		var b [24]byte
		if _, err := unix.Read(fd, b[:]); err != nil {
			return 0, fmt.Errorf("reading the processor time: %w", err)
		}
		ns += int64(binary.NativeEndian.Uint64(b[:]))
	}
	return ns, nil
}

// Read returns what was counted. Where the processor has fewer counters than
// were asked for, they took turns, and the count is scaled up.
func (s *Counters) Read() (out []profile.Counter, missing []string, err error) {
	if s.threads > maxCounted {
		for _, k := range CounterKinds {
			missing = append(missing, k.Name)
		}
		return nil, missing, nil
	}
	for i, fds := range s.fds {
		if s.attrs[i] == nil {
			continue
		}
		var sum float64
		shared := false
		for _, fd := range fds {
			var b [24]byte // value, time enabled, time running
			if _, err := unix.Read(fd, b[:]); err != nil {
				return nil, nil, fmt.Errorf("reading a counter: %w", err)
			}
			v, enabled, running := binary.NativeEndian.Uint64(b[:]), binary.NativeEndian.Uint64(b[8:]), binary.NativeEndian.Uint64(b[16:])
			if running > 0 && running < enabled {
				sum += float64(v) * float64(enabled) / float64(running)
				shared = true
			} else {
				sum += float64(v)
			}
		}
		out = append(out, profile.Counter{Name: CounterKinds[i].Name, Value: int64(sum), Estimated: shared})
	}
	return out, s.missing, nil
}
