package capture

import (
	"encoding/binary"
	"errors"
	"fmt"

	"golang.org/x/sys/unix"

	"entelon/linux/bpf"
	"entelon/linux/perf"
	"entelon/linux/procfs"
)

// target is a set of events on threads and the rings they write to, one ring
// a processor.
type target struct {
	cpus     []int
	rings    []*perf.Ring
	first    []int // per processor, the event whose ring the others share
	fds      []int
	watchers []int            // events that count nothing
	other    *bpf.StackReader // nil where other stacks are not read
	plan     []*event
	rateHz   int
	every    bool           // every event of some kind is written down
	byID     map[uint64]int // which of the plan
	counters *counters      // nil: none
	clocks   []clockFile    // of the events that tell processor time
	// Threads that showed up while their process was attached to, by the event
	// opened for each. Such a thread may have inherited an event, too, from the
	// thread that started it, and would then be sampled twice.
	late      map[uint64]uint32
	inherited map[uint32]bool // those of them that turned out to have one
}

// clockFile is an event whose count, or whose time of running where it counts
// cycles, is processor time.
type clockFile struct {
	fd     int
	cycles bool
}

func newTarget(other *bpf.StackReader, plan []*event, rateHz int) (*target, error) {
	cpus, err := perf.Processors()
	if err != nil {
		return nil, err
	}
	t := &target{other: other, rateHz: rateHz, plan: plan, byID: map[uint64]int{}, cpus: cpus, first: make([]int, len(cpus)), rings: make([]*perf.Ring, len(cpus)), late: map[uint64]uint32{}, inherited: map[uint32]bool{}}
	for i := range t.first {
		t.first[i] = -1
	}
	for _, s := range plan {
		t.every = t.every || !s.clock
	}
	return t, nil
}

// everyone, instead of a thread, is all that run on a processor; with
// inGroup, who is in the control group whose folder is open.
const (
	everyone = -1
	inGroup  = unix.PERF_FLAG_PID_CGROUP
)

// add opens the thread's events on all processors. flags are inGroup or 0.
func (t *target) add(tid, flags int, late bool) error {
	for i := range t.plan {
		if err := t.addOne(i, tid, flags, late); err != nil {
			return err
		}
	}
	if t.counters == nil || late { // a late thread may have inherited the counters
		return nil
	}
	cpus := []int{-1}
	if tid < 0 || flags != 0 {
		cpus = t.cpus
	}
	for _, cpu := range cpus {
		fds, err := t.counters.add(tid, cpu, flags)
		t.fds = append(t.fds, fds...)
		if err != nil {
			return err
		}
	}
	return nil
}

func (t *target) addOne(n, tid, flags int, late bool) error {
	e := t.plan[n]
	if e.program != nil {
		if err := t.attachProgram(e, tid); err != nil {
			return err
		}
	}
	for i, cpu := range t.cpus {
		fd, err := perf.Open(e.attr, tid, cpu, flags)
		if err != nil {
			return err
		}
		t.fds = append(t.fds, fd)
		if e.clock {
			t.clocks = append(t.clocks, clockFile{fd, e.cycles})
		}
		if t.other != nil && e.reader {
			if err := t.other.Attach(fd); err != nil {
				return err
			}
		}
		id, err := perf.EventID(fd)
		if err != nil {
			return err
		}
		t.byID[id] = n
		if late {
			t.late[id] = uint32(tid)
		}
		if t.first[i] < 0 {
			r, err := perf.MapRing(fd, perf.RingSize(len(t.cpus), t.rateHz, t.every))
			if err != nil {
				return err
			}
			t.first[i], t.rings[i] = fd, r
			if t.other != nil {
				if err := t.share(t.other.Events[i], fd, cpu); err != nil {
					return err
				}
			}
			continue
		}
		if err := t.share(fd, t.first[i], cpu); err != nil {
			return err
		}
	}
	return nil
}

// attachProgram has a program run at a probe: once at each hit, whichever of
// the probe's events it is for. It is attached by an event of its own that
// nobody inherits, since the kernel takes the program off the probe again when
// the first heir of its event ends.
func (t *target) attachProgram(e *event, tid int) error {
	a := *e.attr
	a.Bits &^= unix.PerfBitInherit | unix.PerfBitEnableOnExec
	fd, err := perf.Open(&a, tid, -1, 0)
	if err != nil {
		return err
	}
	t.watchers = append(t.watchers, fd)
	if err := unix.IoctlSetInt(fd, unix.PERF_EVENT_IOC_SET_BPF, e.program.FD()); err != nil {
		return fmt.Errorf("attaching the program that counts: %w", err)
	}
	e.program = nil
	return nil
}

// watch opens an event on each processor that tells at once what happens to a
// command: a runtime has to be known to the kernel program before its first
// function runs.
func (t *target) watch(tid int, kernel bool) error {
	for _, cpu := range t.cpus {
		fd, err := perf.Open(perf.SideEvent(kernel), tid, cpu, 0)
		if err != nil {
			return err
		}
		t.watchers = append(t.watchers, fd)
		r, err := perf.MapRing(fd, perf.SmallRingBytes)
		if err != nil {
			return err
		}
		t.rings = append(t.rings, r)
	}
	return nil
}

// share has an event write into the ring of another one.
func (t *target) share(fd, with, cpu int) error {
	if err := unix.IoctlSetInt(fd, unix.PERF_EVENT_IOC_SET_OUTPUT, with); err != nil {
		return fmt.Errorf("sharing the ring of processor %d: %w", cpu, err)
	}
	return nil
}

// isOther reports whether a record comes from the reader of other stacks.
func (t *target) isOther(id uint64) bool { return t.other != nil && t.other.IDs[id] }

// attach opens events for every thread of a process. Threads that appear
// meanwhile are found by listing again until nothing is new.
func (t *target) attach(pid int) error {
	raiseFileLimit()
	seen := map[int]bool{}
	for round := 0; ; round++ {
		tids, err := procfs.Threads(pid)
		if err != nil {
			return err
		}
		fresh := false
		for _, tid := range tids {
			if seen[tid] {
				continue
			}
			seen[tid] = true
			err := t.add(tid, 0, round > 0)
			if errors.Is(err, ErrNoProcess) && tid != pid {
				continue // a thread that has just ended
			}
			if err != nil {
				return err
			}
			fresh = true
		}
		if !fresh {
			return nil
		}
	}
}

// raiseFileLimit allows as many open files as the system lets this user have:
// a process with ten thousand threads needs an event for each of them on each
// processor. Where it may not be raised, opening the events says so.
func raiseFileLimit() {
	const most = 1 << 20 // the kernel's own bound, fs.nr_open, where it was not changed
	for _, n := range []uint64{most, most / 4} {
		if unix.Setrlimit(unix.RLIMIT_NOFILE, &unix.Rlimit{Cur: n, Max: n}) == nil {
			return
		}
	}
}

// doubled reports whether a sample is the second one of the same moment: the
// thread has an event of its own, opened late, and an inherited one. The
// first sample from an inherited event settles it for the thread.
func (t *target) doubled(r perf.Record) bool {
	if len(t.late) == 0 {
		return false
	}
	if tid, isLate := t.late[r.ID]; isLate && tid == r.TID {
		return t.inherited[r.TID]
	}
	for _, tid := range t.late {
		if tid == r.TID {
			t.inherited[tid] = true
		}
	}
	return false
}

func (t *target) enable() error {
	for _, fd := range t.fds {
		if err := unix.IoctlSetInt(fd, unix.PERF_EVENT_IOC_ENABLE, 0); err != nil {
			return fmt.Errorf("starting to sample: %w", err)
		}
	}
	return nil
}

func (t *target) disable() error {
	for _, fd := range t.fds {
		if err := unix.IoctlSetInt(fd, unix.PERF_EVENT_IOC_DISABLE, 0); err != nil {
			return fmt.Errorf("stopping to sample: %w", err)
		}
	}
	return nil
}

// counted returns the processor time in nanoseconds that the kernel counted
// for all sampled threads, ended ones included.
func (t *target) counted() (int64, error) {
	var sum int64
	for _, c := range t.clocks {
		b := make([]byte, 8)
		if c.cycles {
			b = make([]byte, 16) // the count and the time
		}
		if _, err := unix.Read(c.fd, b); err != nil {
			return 0, fmt.Errorf("reading the processor time: %w", err)
		}
		sum += int64(binary.NativeEndian.Uint64(b[len(b)-8:]))
	}
	return sum, nil
}

func (t *target) close() error {
	var errs []error
	for _, r := range t.rings {
		if r != nil {
			errs = append(errs, r.Close())
		}
	}
	for _, fd := range append(t.fds, t.watchers...) {
		errs = append(errs, unix.Close(fd))
	}
	return errors.Join(errs...)
}
