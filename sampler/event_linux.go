package sampler

import (
	"errors"
	"fmt"
	"os"
	"runtime"
	"strconv"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"

	"entelon/unwind"
)

// Bits of the flag word of unix.PerfEventAttr that x/sys does not name are in
// the kernel's order after PerfBitMmap2 and PerfBitCommExec.
const (
	sampleType = unix.PERF_SAMPLE_IDENTIFIER | unix.PERF_SAMPLE_IP | unix.PERF_SAMPLE_TID |
		unix.PERF_SAMPLE_TIME | unix.PERF_SAMPLE_CPU | unix.PERF_SAMPLE_PERIOD | unix.PERF_SAMPLE_CALLCHAIN
)

// sampledRegisters are the user registers that come with a sample, by their
// bits in enum perf_event_x86_regs, in the order in which the kernel writes
// them, each with its number in package unwind.
var sampledRegisters = []struct{ bit, number int }{
	{0, unwind.RAX}, {1, unwind.RBX}, {2, unwind.RCX}, {3, unwind.RDX}, {4, unwind.RSI}, {5, unwind.RDI},
	{6, unwind.RBP}, {7, unwind.RSP}, {8, unwind.PC},
	{16, unwind.R8}, {17, unwind.R9}, {18, unwind.R10}, {19, unwind.R11},
	{20, unwind.R12}, {21, unwind.R13}, {22, unwind.R14}, {23, unwind.R15},
}

// clock says how the program is sampled.
type clock struct {
	rateHz     int
	onExec     bool // it starts when the command begins
	kernel     bool // kernel code, too
	stackBytes int  // how much of the stack to copy; 0: frame pointers only
	everyone   bool // who runs, not one thread and what it starts
	alone      bool // what else happens (mappings, new threads) is told by another event
}

// happenings describes an event that counts nothing and tells at once what
// happens besides samples: mappings, names, beginnings and ends of threads.
func happenings(kernel bool) *unix.PerfEventAttr {
	a := attr(clock{rateHz: 1, kernel: kernel})
	a.Config, a.Sample = unix.PERF_COUNT_SW_DUMMY, 0
	a.Bits &^= unix.PerfBitDisabled
	a.Wakeup = 1
	return a
}

// attr describes the software clock of a processor: an event that interrupts
// the program rateHz times for every second that it really runs.
func attr(c clock) *unix.PerfEventAttr {
	a := &unix.PerfEventAttr{
		Type:        unix.PERF_TYPE_SOFTWARE,
		Config:      unix.PERF_COUNT_SW_CPU_CLOCK,
		Sample:      uint64(1_000_000_000 / c.rateHz), // the clock counts nanoseconds
		Sample_type: sampleType,
		Bits: unix.PerfBitDisabled | unix.PerfBitInherit | unix.PerfBitMmap | unix.PerfBitMmap2 | unix.PerfBitComm |
			unix.PerfBitCommExec | unix.PerfBitTask | unix.PerfBitSampleIDAll | unix.PerfBitUseClockID | unix.PerfBitWatermark |
			unix.PerfBitExcludeHv,
		Wakeup:  wakeBytes,
		Clockid: unix.CLOCK_MONOTONIC,
	}
	a.Size = uint32(unsafe.Sizeof(*a))
	if c.stackBytes > 0 {
		a.Sample_type |= unix.PERF_SAMPLE_REGS_USER | unix.PERF_SAMPLE_STACK_USER
		for _, r := range sampledRegisters {
			a.Sample_regs_user |= 1 << r.bit
		}
		a.Sample_stack_user = uint32(c.stackBytes)
	}
	if c.everyone {
		a.Bits = a.Bits&^unix.PerfBitInherit | unix.PerfBitExcludeIdle
	}
	if c.onExec {
		a.Bits |= unix.PerfBitEnableOnExec
	}
	if c.alone {
		a.Bits &^= unix.PerfBitMmap | unix.PerfBitMmap2 | unix.PerfBitComm | unix.PerfBitCommExec | unix.PerfBitTask
	}
	if !c.kernel {
		a.Bits |= unix.PerfBitExcludeKernel | unix.PerfBitExcludeCallchainKernel
	}
	return a
}

// open opens an event for one thread, or for everyone, on one processor.
func open(a *unix.PerfEventAttr, tid, cpu, flags int) (int, error) {
	fd, err := unix.PerfEventOpen(a, tid, cpu, -1, unix.PERF_FLAG_FD_CLOEXEC|flags)
	switch {
	case err == nil:
		return fd, nil
	case errors.Is(err, unix.EACCES) || errors.Is(err, unix.EPERM):
		return -1, fmt.Errorf("%w (kernel.perf_event_paranoid is %s)", ErrNotAllowed, setting("perf_event_paranoid"))
	case errors.Is(err, unix.EMFILE) || errors.Is(err, unix.ENFILE):
		return -1, ErrFiles
	case errors.Is(err, unix.ESRCH):
		return -1, ErrNoProcess
	case errors.Is(err, unix.EINVAL):
		return -1, fmt.Errorf("%w (kernel.perf_event_max_sample_rate is %s)", ErrRate, setting("perf_event_max_sample_rate"))
	}
	return -1, fmt.Errorf("opening the sampling event for thread %d on processor %d: %w", tid, cpu, err)
}

func setting(name string) string {
	b, err := os.ReadFile("/proc/sys/kernel/" + name)
	if err != nil {
		return "unknown"
	}
	return strings.TrimSpace(string(b))
}

// Allowed reports whether this user may sample its own processes: nil, or an
// error that wraps ErrNotAllowed or ErrUnsupported. It tries, on itself.
func Allowed() error {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	fd, err := open(attr(clock{rateHz: 99}), 0, -1, 0)
	if err != nil {
		return err
	}
	return unix.Close(fd)
}

// processors returns the numbers of the processors that are on.
func processors() ([]int, error) {
	b, err := os.ReadFile("/sys/devices/system/cpu/online")
	if err != nil {
		return nil, fmt.Errorf("listing processors: %w", err)
	}
	return parseProcessors(strings.TrimSpace(string(b)))
}

// parseProcessors reads the kernel's notation, such as "0-3,8".
func parseProcessors(list string) ([]int, error) {
	var out []int
	for _, part := range strings.Split(list, ",") {
		from, to, ranged := strings.Cut(part, "-")
		a, err := strconv.Atoi(from)
		b := a
		if err == nil && ranged {
			b, err = strconv.Atoi(to)
		}
		if err != nil || b < a || b > 1<<16 {
			return nil, fmt.Errorf("listing processors: %q is not a list of numbers", list)
		}
		for ; a <= b; a++ {
			out = append(out, a)
		}
	}
	return out, nil
}
