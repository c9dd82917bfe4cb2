package sampler

import (
	"encoding/binary"
	"fmt"
	"runtime"

	"golang.org/x/sys/unix"
)

// cyclesEvent is the processor's counter of cycles. A processor that is slowed
// down or sped up is interrupted in step with its work, and code in which the
// clock's interrupt has to wait is seen, too. Variable for tests, on machines
// without such a counter.
var cyclesEvent = struct {
	kind   uint32
	config uint64
}{unix.PERF_TYPE_HARDWARE, unix.PERF_COUNT_HW_CPU_CYCLES}

// cycles describes the counter of cycles as a trigger: the kernel finds the
// number of cycles that gives the wanted rate. With each sample comes for how
// long the thread has run on this processor, so that a sample stands for the
// time since the one before it, whatever the processor's speed was.
func (c clock) cycles() *unix.PerfEventAttr {
	a := attr(c)
	a.Type, a.Config = cyclesEvent.kind, cyclesEvent.config
	a.Sample = uint64(c.rateHz)
	a.Bits |= unix.PerfBitFreq
	a.Sample_type |= unix.PERF_SAMPLE_READ
	a.Read_format = unix.PERF_FORMAT_TOTAL_TIME_RUNNING
	return a
}

// haveCycles probes for the counter of cycles. Kernels before 6.12 do not tell
// the running time of threads that inherit an event, and refuse.
func haveCycles() error {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	fd, err := unix.PerfEventOpen(clock{rateHz: 99}.cycles(), 0, 0, -1, unix.PERF_FLAG_FD_CLOEXEC)
	if err != nil {
		return fmt.Errorf("%w (%v)", ErrNoCycles, err)
	}
	return unix.Close(fd)
}

// chooseEvent decides what triggers a sample: cycles where the machine has
// them, else the clock. What runs on a whole machine or in a control group is
// always sampled by the clock, since such an event runs whether or not anything
// else does.
func (s *session) chooseEvent() error {
	set := &s.o.Settings
	wide := set.Machine || set.Group != ""
	switch set.Event {
	case "":
		set.Event = EventClock
		if !wide && haveCycles() == nil {
			set.Event = EventCycles
		}
	case EventClock:
	case EventCycles:
		if wide {
			return fmt.Errorf("cycles trigger samples of programs only, not of a whole machine or control group: %w", ErrNoCycles)
		}
		return haveCycles()
	default:
		return fmt.Errorf("%q triggers no samples; choose %s or %s", set.Event, EventClock, EventCycles)
	}
	return nil
}

// ran is for how long each thread had run on each processor at its last sample.
type ran map[ranKey]uint64

type ranKey struct{ tid, cpu uint32 }

// since returns how long a thread has run since the last sample on the same
// processor.
func (x ran) since(rec record, running uint64) uint64 {
	if len(rec.body) < 40 {
		return 0
	}
	k := ranKey{rec.tid, binary.NativeEndian.Uint32(rec.body[32:])}
	last := x[k]
	x[k] = running
	if running < last { // another thread with the same number
		return running
	}
	return running - last
}

// gone forgets a thread that has ended.
func (x ran) gone(tid uint32, cpus []int) {
	for _, c := range cpus {
		delete(x, ranKey{tid, uint32(c)})
	}
}
