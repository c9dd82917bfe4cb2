package perf

import (
	"encoding/binary"
	"fmt"
	"runtime"

	"golang.org/x/sys/unix"

	"entelon/linux"
)

// CyclesEvent is the processor's counter of cycles. A processor that is slowed
// down or sped up is interrupted in step with its work, and code in which the
// clock's interrupt has to wait is seen, too. Variable for tests, on machines
// without such a counter.
var CyclesEvent = struct {
	Kind   uint32
	Config uint64
}{unix.PERF_TYPE_HARDWARE, unix.PERF_COUNT_HW_CPU_CYCLES}

// Cycles describes the counter of cycles as a trigger: the kernel finds the
// number of cycles that gives the wanted rate. With each sample comes for how
// long the thread has run on this processor, so that a sample stands for the
// time since the one before it, whatever the processor's speed was.
func (c Clock) Cycles() *unix.PerfEventAttr {
	a := Attributes(c)
	a.Type, a.Config = CyclesEvent.Kind, CyclesEvent.Config
	a.Sample = uint64(c.RateHz)
	a.Bits |= unix.PerfBitFreq
	a.Sample_type |= unix.PERF_SAMPLE_READ
	a.Read_format = unix.PERF_FORMAT_TOTAL_TIME_RUNNING
	return a
}

// HaveCycles probes for the counter of cycles. Kernels before 6.12 do not tell
// the running time of threads that inherit an event, and refuse.
func HaveCycles() error {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	fd, err := unix.PerfEventOpen(Clock{RateHz: 99}.Cycles(), 0, 0, -1, unix.PERF_FLAG_FD_CLOEXEC)
	if err != nil {
		return fmt.Errorf("%w (%v)", linux.ErrNoCycles, err)
	}
	return unix.Close(fd)
}

// RunTime is for how long each thread had run on each processor at its last sample.
type RunTime map[ranKey]uint64

type ranKey struct{ tid, cpu uint32 }

// Since returns how long a thread has run since the last sample on the same
// processor.
func (x RunTime) Since(rec Record, running uint64) uint64 {
	if len(rec.Body) < 40 {
		return 0
	}
	k := ranKey{rec.TID, binary.NativeEndian.Uint32(rec.Body[32:])}
	last := x[k]
	x[k] = running
	if running < last { // another thread with the same number
		return running
	}
	return running - last
}

// Gone forgets a thread that has ended.
func (x RunTime) Gone(tid uint32, cpus []int) {
	for _, c := range cpus {
		delete(x, ranKey{tid, uint32(c)})
	}
}
