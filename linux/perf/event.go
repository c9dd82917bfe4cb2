// Package perf is the kernel's interface to performance events: how an event is
// described and opened, the rings in which the kernel writes records, and what these
// records say. It knows nothing of what they are for.
//
// A ring belongs to the goroutine that drains it; nothing here is locked.
package perf

import (
	"errors"
	"fmt"
	"os"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"unsafe"

	"golang.org/x/sys/unix"

	"entelon/linux"
)

// Bits of the flag word of unix.PerfEventAttr that x/sys does not name are in
// the kernel's order after PerfBitMmap2 and PerfBitCommExec.
const (
	sampleType = unix.PERF_SAMPLE_IDENTIFIER | unix.PERF_SAMPLE_IP | unix.PERF_SAMPLE_TID |
		unix.PERF_SAMPLE_TIME | unix.PERF_SAMPLE_CPU | unix.PERF_SAMPLE_PERIOD | unix.PERF_SAMPLE_CALLCHAIN
)

// SampledRegisters are the user registers that come with a sample, by their bits in
// enum perf_event_x86_regs, in the order in which the kernel writes them: ax, bx, cx,
// dx, si, di, bp, sp, ip, r8 to r15.
var SampledRegisters = [registerCount]int{0, 1, 2, 3, 4, 5, 6, 7, 8, 16, 17, 18, 19, 20, 21, 22, 23}

// registerCount is how many registers come with a sample.
const registerCount = 17

// Clock says how the program is sampled.
type Clock struct {
	RateHz     int
	OnExec     bool // it starts when the command begins
	Kernel     bool // kernel code, too
	StackBytes int  // how much of the stack to copy; 0: frame pointers only
	Everyone   bool // who runs, not one thread and what it starts
	Alone      bool // what else happens (mappings, new threads) is told by another event
}

// SideEvent describes an event that counts nothing and tells at once what
// happens besides samples: mappings, names, beginnings and ends of threads.
func SideEvent(kernel bool) *unix.PerfEventAttr {
	a := Attributes(Clock{RateHz: 1, Kernel: kernel})
	a.Config, a.Sample = unix.PERF_COUNT_SW_DUMMY, 0
	a.Bits &^= unix.PerfBitDisabled
	a.Wakeup = 1
	return a
}

// Attributes describes the software clock of a processor: an event that interrupts
// the program rateHz times for every second that it really runs.
func Attributes(c Clock) *unix.PerfEventAttr {
	a := &unix.PerfEventAttr{
		Type:        unix.PERF_TYPE_SOFTWARE,
		Config:      unix.PERF_COUNT_SW_CPU_CLOCK,
		Sample:      uint64(1_000_000_000 / c.RateHz), // the clock counts nanoseconds
		Sample_type: sampleType,
		Bits: unix.PerfBitDisabled | unix.PerfBitInherit | unix.PerfBitMmap | unix.PerfBitMmap2 | unix.PerfBitComm |
			unix.PerfBitCommExec | unix.PerfBitTask | unix.PerfBitSampleIDAll | unix.PerfBitUseClockID | unix.PerfBitWatermark |
			unix.PerfBitExcludeHv,
		Wakeup:  WakeBytes,
		Clockid: unix.CLOCK_MONOTONIC,
	}
	a.Size = uint32(unsafe.Sizeof(*a))
	if TellsLost() {
		a.Read_format = unix.PERF_FORMAT_LOST
	}
	if c.StackBytes > 0 {
		a.Sample_type |= unix.PERF_SAMPLE_REGS_USER | unix.PERF_SAMPLE_STACK_USER
		for _, bit := range SampledRegisters {
			a.Sample_regs_user |= 1 << bit
		}
		a.Sample_stack_user = uint32(c.StackBytes)
	}
	if c.Everyone {
		a.Bits = a.Bits&^unix.PerfBitInherit | unix.PerfBitExcludeIdle
	}
	if c.OnExec {
		a.Bits |= unix.PerfBitEnableOnExec
	}
	if c.Alone {
		a.Bits &^= unix.PerfBitMmap | unix.PerfBitMmap2 | unix.PerfBitComm | unix.PerfBitCommExec | unix.PerfBitTask
	}
	if !c.Kernel {
		a.Bits |= unix.PerfBitExcludeKernel | unix.PerfBitExcludeCallchainKernel
	}
	return a
}

// Counting describes an event that counts the processor time of a thread and of what it
// starts, and writes no samples; it may tell what else happens.
func (c Clock) Counting() *unix.PerfEventAttr {
	c.StackBytes = 0
	a := Attributes(c)
	a.Sample = 0
	return a
}

// TellsLost reports whether the kernel counts by event which records had no room: since
// version 6.0. Before, what is lost is told when the next record has room, if there is one.
var TellsLost = sync.OnceValue(func() bool {
	a := &unix.PerfEventAttr{
		Type: unix.PERF_TYPE_SOFTWARE, Config: unix.PERF_COUNT_SW_DUMMY, Read_format: unix.PERF_FORMAT_LOST,
		Bits: unix.PerfBitDisabled | unix.PerfBitExcludeKernel | unix.PerfBitExcludeHv,
	}
	a.Size = uint32(unsafe.Sizeof(*a))
	fd, err := unix.PerfEventOpen(a, 0, -1, -1, unix.PERF_FLAG_FD_CLOEXEC)
	if err != nil {
		return false
	}
	unix.Close(fd)
	return true
})

// EveryOne makes an event write a sample each time.
func (c Clock) EveryOne(kind uint32, config uint64) *unix.PerfEventAttr {
	a := Attributes(c)
	a.Type, a.Config, a.Sample = kind, config, 1
	return a
}

// Written describes an event of a processor whose samples a kernel program writes, whoever runs.
func (c Clock) Written() *unix.PerfEventAttr {
	c.Everyone, c.Alone, c.OnExec = true, true, false
	a := c.EveryOne(unix.PERF_TYPE_SOFTWARE, unix.PERF_COUNT_SW_BPF_OUTPUT)
	a.Sample_type |= unix.PERF_SAMPLE_RAW
	a.Bits &^= unix.PerfBitExcludeIdle
	return a
}

// Traced describes a tracepoint by its number.
func (c Clock) Traced(id uint64, withStack bool) *unix.PerfEventAttr {
	a := c.EveryOne(unix.PERF_TYPE_TRACEPOINT, id)
	a.Sample_type |= unix.PERF_SAMPLE_RAW
	if !withStack {
		a.Sample_type &^= unix.PERF_SAMPLE_CALLCHAIN | unix.PERF_SAMPLE_REGS_USER | unix.PERF_SAMPLE_STACK_USER
		a.Sample_regs_user, a.Sample_stack_user = 0, 0
	}
	return a
}

// SideBits have an event tell of mappings, names, beginnings and ends.
const SideBits = unix.PerfBitMmap | unix.PerfBitMmap2 | unix.PerfBitComm | unix.PerfBitCommExec | unix.PerfBitTask

// SoftwareEvents are those that the kernel itself counts, by the names that its own
// tools list.
var SoftwareEvents = map[string]uint64{
	"page-faults":      unix.PERF_COUNT_SW_PAGE_FAULTS,
	"minor-faults":     unix.PERF_COUNT_SW_PAGE_FAULTS_MIN,
	"major-faults":     unix.PERF_COUNT_SW_PAGE_FAULTS_MAJ,
	"context-switches": unix.PERF_COUNT_SW_CONTEXT_SWITCHES,
	"cpu-migrations":   unix.PERF_COUNT_SW_CPU_MIGRATIONS,
	"alignment-faults": unix.PERF_COUNT_SW_ALIGNMENT_FAULTS,
	"emulation-faults": unix.PERF_COUNT_SW_EMULATION_FAULTS,
}

// Open opens an event for one thread, or for everyone, on one processor.
func Open(a *unix.PerfEventAttr, tid, cpu, flags int) (int, error) {
	fd, err := unix.PerfEventOpen(a, tid, cpu, -1, unix.PERF_FLAG_FD_CLOEXEC|flags)
	switch {
	case err == nil:
		return fd, nil
	case errors.Is(err, unix.EACCES) || errors.Is(err, unix.EPERM):
		return -1, fmt.Errorf("%w (kernel.perf_event_paranoid is %s)", linux.ErrNotAllowed, Setting("perf_event_paranoid"))
	case errors.Is(err, unix.EMFILE) || errors.Is(err, unix.ENFILE):
		return -1, linux.ErrFiles
	case errors.Is(err, unix.ESRCH):
		return -1, linux.ErrNoProcess
	case errors.Is(err, unix.EINVAL):
		return -1, fmt.Errorf("%w (kernel.perf_event_max_sample_rate is %s)", linux.ErrRate, Setting("perf_event_max_sample_rate"))
	}
	return -1, fmt.Errorf("opening the sampling event for thread %d on processor %d: %w", tid, cpu, err)
}

// Setting returns one of the kernel's settings, or "unknown".
func Setting(name string) string {
	b, err := os.ReadFile("/proc/sys/kernel/" + name)
	if err != nil {
		return "unknown"
	}
	return strings.TrimSpace(string(b))
}

// KernelNamesRemedy is what has the kernel tell where its functions are, which depends on
// which of its two settings hides that (kernel/kallsyms.c, kallsyms_show_value).
func KernelNamesRemedy() string {
	switch {
	case Setting("kptr_restrict") == "0":
		return "Collect as root, or ask for: sysctl kernel.perf_event_paranoid=1"
	case os.Geteuid() == 0:
		return "Ask for: sysctl kernel.kptr_restrict=1"
	}
	return "Collect as root, or ask for: sysctl kernel.kptr_restrict=0 kernel.perf_event_paranoid=1"
}

// maxByTimer is how often the timer of the clock fires at most: the kernel makes shorter
// periods 10 µs long.
const maxByTimer = 100_000

// MaxRate is how many samples a second the kernel allows: what it is set to, as far as its
// timers go.
func MaxRate() int {
	n, err := strconv.Atoi(Setting("perf_event_max_sample_rate"))
	if err != nil || n <= 0 {
		return maxByTimer
	}
	return min(n, maxByTimer)
}

// Allowed reports whether this user may sample its own processes: nil, or an
// error that wraps linux.ErrNotAllowed. It tries, on itself.
func Allowed() error {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	fd, err := Open(Attributes(Clock{RateHz: 99}), 0, -1, 0)
	if err != nil {
		return err
	}
	return unix.Close(fd)
}

// Processors returns the numbers of the processors that are on.
func Processors() ([]int, error) {
	b, err := os.ReadFile("/sys/devices/system/cpu/online")
	if err != nil {
		return nil, fmt.Errorf("listing processors: %w", err)
	}
	return ParseProcessors(strings.TrimSpace(string(b)))
}

// ParseProcessors reads the kernel's notation, such as "0-3,8".
func ParseProcessors(list string) ([]int, error) {
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
