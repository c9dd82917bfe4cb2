package capture

import (
	"encoding/binary"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"entelon/core/profile"
	"entelon/linux/perf"
	"entelon/linux/procfs"
	"entelon/resolve"
)

// counterKinds are what is counted for a whole take where the machine can.
var counterKinds = []struct {
	name   string
	kind   uint32
	config uint64
}{
	{"context switches", unix.PERF_TYPE_SOFTWARE, unix.PERF_COUNT_SW_CONTEXT_SWITCHES},
	{"migrations between processors", unix.PERF_TYPE_SOFTWARE, unix.PERF_COUNT_SW_CPU_MIGRATIONS},
	{"page faults from memory", unix.PERF_TYPE_SOFTWARE, unix.PERF_COUNT_SW_PAGE_FAULTS_MIN},
	{"page faults from disk", unix.PERF_TYPE_SOFTWARE, unix.PERF_COUNT_SW_PAGE_FAULTS_MAJ},
	{"instructions", unix.PERF_TYPE_HARDWARE, unix.PERF_COUNT_HW_INSTRUCTIONS},
	{"cycles", unix.PERF_TYPE_HARDWARE, unix.PERF_COUNT_HW_CPU_CYCLES},
	{"cache references", unix.PERF_TYPE_HARDWARE, unix.PERF_COUNT_HW_CACHE_REFERENCES},
	{"cache misses", unix.PERF_TYPE_HARDWARE, unix.PERF_COUNT_HW_CACHE_MISSES},
	{"branches", unix.PERF_TYPE_HARDWARE, unix.PERF_COUNT_HW_BRANCH_INSTRUCTIONS},
	{"branch misses", unix.PERF_TYPE_HARDWARE, unix.PERF_COUNT_HW_BRANCH_MISSES},
}

// counters are events that count for the whole take and write no samples.
type counters struct {
	attrs   []*unix.PerfEventAttr // nil where the machine cannot
	fds     [][]int
	missing []string
	threads int
}

// mostCounted is how many threads that were there before are counted: each
// needs a file for each counter.
const mostCounted = 500

func newCounters(c perf.Clock) *counters {
	s := &counters{attrs: make([]*unix.PerfEventAttr, len(counterKinds)), fds: make([][]int, len(counterKinds))}
	for i, k := range counterKinds {
		a := perf.Attributes(c)
		a.Type, a.Config, a.Sample, a.Sample_type = k.kind, k.config, 0, 0
		a.Sample_regs_user, a.Sample_stack_user = 0, 0
		a.Bits &^= perf.SideBits
		a.Read_format = unix.PERF_FORMAT_TOTAL_TIME_ENABLED | unix.PERF_FORMAT_TOTAL_TIME_RUNNING
		probe := *a
		probe.Bits &^= unix.PerfBitEnableOnExec
		fd, err := unix.PerfEventOpen(&probe, 0, -1, -1, unix.PERF_FLAG_FD_CLOEXEC)
		if err != nil {
			s.missing = append(s.missing, k.name)
			continue
		}
		unix.Close(fd)
		s.attrs[i] = a
	}
	return s
}

// add counts a thread, or everyone on one processor, too, and returns the
// events, which the caller enables and closes.
func (s *counters) add(tid, cpu, flags int) (fds []int, err error) {
	if s.threads++; tid > 0 && s.threads > mostCounted {
		return nil, nil
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

// read returns what was counted. Where the processor has fewer counters than
// were asked for, they took turns, and the count is scaled up.
func (s *counters) read() (out []profile.Counter, missing []string, err error) {
	if s.threads > mostCounted {
		for _, k := range counterKinds {
			missing = append(missing, k.name)
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
		out = append(out, profile.Counter{Name: counterKinds[i].name, Value: int64(sum), Estimated: shared})
	}
	return out, s.missing, nil
}

// usage follows the memory and the processor time of the processes of a take.
type usage struct {
	every  time.Duration
	next   time.Time
	series profile.Usage
	page   int64
}

const (
	firstEvery    = 100 * time.Millisecond
	mostPoints    = 600
	mostFollowed  = 64
	nanosecondsOf = int64(time.Second) / procfs.TicksASecond
)

func newUsage() *usage { return &usage{every: firstEvery, page: int64(os.Getpagesize())} }

// look adds a point if one is due. When there are many, every second one is
// dropped and they come half as often.
func (u *usage) look(now time.Time, began time.Time, ps *resolve.Processes) {
	if now.Before(u.next) || len(ps.Known) > mostFollowed {
		return
	}
	u.next = now.Add(u.every)
	var resident, cpu int64
	alive := 0
	for pid := range ps.Known {
		if b, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", pid)); err == nil {
			if f := strings.Fields(string(b)); len(f) > 1 {
				if n, err := strconv.ParseInt(f[1], 10, 64); err == nil {
					resident += n * u.page
					alive++
				}
			}
		}
		if b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid)); err == nil {
			cpu += procfs.Ticks(string(b)) * nanosecondsOf
		}
	}
	if alive == 0 {
		return
	}
	s := &u.series
	s.TimeNS = append(s.TimeNS, now.Sub(began).Nanoseconds())
	s.ResidentBytes = append(s.ResidentBytes, resident)
	s.CPUNS = append(s.CPUNS, cpu)
	s.MostResident = max(s.MostResident, resident)
	if len(s.TimeNS) < mostPoints {
		return
	}
	n := 0
	for i := 0; i < len(s.TimeNS); i += 2 {
		s.TimeNS[n], s.ResidentBytes[n], s.CPUNS[n] = s.TimeNS[i], s.ResidentBytes[i], s.CPUNS[i]
		n++
	}
	s.TimeNS, s.ResidentBytes, s.CPUNS = s.TimeNS[:n], s.ResidentBytes[:n], s.CPUNS[:n]
	u.every *= 2
}
