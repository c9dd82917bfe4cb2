package rings

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"

	"golang.org/x/sys/unix"

	"entelon/linux"
	"entelon/linux/bpf"
	"entelon/linux/perf"
	"entelon/linux/procfs"
)

// Target is a set of events on threads and the rings they write to, one ring
// a processor.
type Target struct {
	cpus     []int
	rings    []*perf.Ring
	first    []int // per processor, the event whose ring the others share
	fds      []int
	wide     []int            // of them, those of whole processors
	watchers []int            // events that count nothing
	Other    *bpf.StackReader // nil where other stacks are not read
	// attaching says that Other is attached to what is opened; unattached are the events to which
	// it is to be attached.
	attaching  bool
	unattached []int
	Tally      *bpf.Tally // nil where nothing is added up in the kernel
	plan       []*Event
	rateHz     int
	every      bool           // every event of some kind is written down
	byID       map[uint64]int // which of the plan
	Counters   *Counters      // nil: none
	clocks     []clockFile    // of the events that tell processor time
	files      []eventFile    // of all of the plan
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

// eventFile is one of the files of an event of the plan.
type eventFile struct{ fd, event int }

// NewTarget prepares for events on the processors that are on. other reads other stacks;
// nil: they are not read.
func NewTarget(other *bpf.StackReader, plan []*Event, rateHz int) (*Target, error) {
	cpus, err := perf.Processors()
	if err != nil {
		return nil, err
	}
	t := &Target{Other: other, rateHz: rateHz, plan: plan, byID: map[uint64]int{}, cpus: cpus, first: make([]int, len(cpus)), rings: make([]*perf.Ring, len(cpus)), late: map[uint64]uint32{}, inherited: map[uint32]bool{}}
	for i := range t.first {
		t.first[i] = -1
	}
	for _, s := range plan {
		t.every = t.every || s.Counts()
	}
	return t, nil
}

// everyone, instead of a thread, is all that run on a processor; with
// inGroup, who is in the control group whose folder is open.
const (
	Everyone = -1
	InGroup  = unix.PERF_FLAG_PID_CGROUP
)

// Add opens the thread's events on all processors. flags are inGroup or 0.
func (t *Target) Add(tid, flags int, late bool) error {
	for i := range t.plan {
		if err := t.addOne(i, tid, flags, late); err != nil {
			return err
		}
	}
	if t.Counters == nil || late { // a late thread may have inherited the counters
		return nil
	}
	cpus := []int{-1}
	if tid < 0 || flags != 0 {
		cpus = t.cpus
	}
	for _, cpu := range cpus {
		fds, err := t.Counters.add(tid, cpu, flags)
		t.fds = append(t.fds, fds...)
		if err != nil {
			return err
		}
	}
	return nil
}

func (t *Target) addOne(n, tid, flags int, late bool) error {
	e := t.plan[n]
	if e.Attr == nil {
		return nil
	}
	if e.Processors {
		if slices.ContainsFunc(t.files, func(f eventFile) bool { return f.event == n }) {
			return nil // open already
		}
		tid, flags, late = Everyone, 0, false
	}
	if e.Program != nil {
		if err := t.attachProgram(e, tid, flags); err != nil {
			return err
		}
	}
	for i, cpu := range t.cpus {
		fd, err := perf.Open(e.Attr, tid, cpu, flags)
		if err != nil {
			return err
		}
		t.fds = append(t.fds, fd)
		t.files = append(t.files, eventFile{fd, n})
		if e.Processors {
			t.wide = append(t.wide, fd)
		}
		if e.Timed {
			t.clocks = append(t.clocks, clockFile{fd, e.Cycles})
		}
		if e.Samples != nil {
			if err := e.Samples.Put(uint32(cpu), uint32(fd)); err != nil {
				return fmt.Errorf("opening samples of the programs: %w", err)
			}
		}
		if e.Handler != nil {
			if err := unix.IoctlSetInt(fd, unix.PERF_EVENT_IOC_SET_BPF, e.Handler.FD()); err != nil {
				return fmt.Errorf("attaching the program that counts: %w", err)
			}
		} else if t.Other != nil && e.Reader {
			if !t.attaching {
				t.unattached = append(t.unattached, fd)
			} else if err := t.Other.Attach(fd); err != nil {
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
			if t.Other != nil {
				if err := t.share(t.Other.Events[i], fd, cpu); err != nil {
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
func (t *Target) attachProgram(e *Event, tid, flags int) error {
	a := *e.Attr
	a.Bits &^= unix.PerfBitInherit | unix.PerfBitEnableOnExec
	if tid < 0 || flags != 0 {
		tid = 0 // ourselves: it runs at each hit all the same
	}
	fd, err := perf.Open(&a, tid, -1, 0)
	if err != nil {
		return err
	}
	t.watchers = append(t.watchers, fd)
	if err := unix.IoctlSetInt(fd, unix.PERF_EVENT_IOC_SET_BPF, e.Program.FD()); err != nil {
		return fmt.Errorf("attaching the program that counts: %w", err)
	}
	e.Program = nil
	return nil
}

// AttachOther has the program that reads other stacks run with all events that are open, and with
// those to come. It waits for the kernel to have checked it, beside which events can be opened.
func (t *Target) AttachOther() error {
	t.attaching = true
	for _, fd := range t.unattached {
		if err := t.Other.Attach(fd); err != nil {
			return err
		}
	}
	t.unattached = nil
	return nil
}

// Watch opens an event on each processor that tells at once what happens to a
// command: a runtime has to be known to the kernel program before its first
// function runs.
func (t *Target) Watch(tid int, kernel bool) error {
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
func (t *Target) share(fd, with, cpu int) error {
	if err := unix.IoctlSetInt(fd, unix.PERF_EVENT_IOC_SET_OUTPUT, with); err != nil {
		return fmt.Errorf("sharing the ring of processor %d: %w", cpu, err)
	}
	return nil
}

// calm reports whether there is little to drain.
func (t *Target) calm() bool { return t.rateHz <= calmRate && !t.every }

// isOther reports whether a record comes from the reader of other stacks.
func (t *Target) isOther(id uint64) bool { return t.Other != nil && t.Other.IDs[id] }

// Attach opens events for every thread of a process. Threads that appear
// meanwhile are found by listing again until nothing is new.
func (t *Target) Attach(pid int) error {
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
			err := t.Add(tid, 0, round > 0)
			if errors.Is(err, linux.ErrNoProcess) && tid != pid {
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
func (t *Target) doubled(r perf.Record) bool {
	if len(t.late) == 0 {
		return false
	}
	if n, known := t.byID[r.ID]; known && t.plan[n].Processors {
		return false // it is of no thread
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

// Enable begins to sample.
func (t *Target) Enable() error { return t.enable(t.fds) }

// EnableProcessors begins to sample whole processors; the rest begins with the command.
func (t *Target) EnableProcessors() error { return t.enable(t.wide) }

func (t *Target) enable(fds []int) error {
	for _, fd := range fds {
		if err := unix.IoctlSetInt(fd, unix.PERF_EVENT_IOC_ENABLE, 0); err != nil {
			return fmt.Errorf("starting to sample: %w", err)
		}
	}
	return nil
}

func (t *Target) disable() error {
	for _, fd := range t.fds {
		if err := unix.IoctlSetInt(fd, unix.PERF_EVENT_IOC_DISABLE, 0); err != nil {
			return fmt.Errorf("stopping to sample: %w", err)
		}
	}
	return nil
}

// Counted returns the processor time in nanoseconds that the kernel counted
// for all sampled threads, ended ones included.
func (t *Target) Counted() (int64, error) {
	var sum int64
	for _, c := range t.clocks {
		b := make([]byte, 16) // the count, then the time of cycles, or what was lost
		if _, err := unix.Read(c.fd, b); err != nil {
			return 0, fmt.Errorf("reading the processor time: %w", err)
		}
		if c.cycles {
			b = b[8:]
		}
		sum += int64(binary.NativeEndian.Uint64(b))
	}
	return sum, nil
}

// Lost returns how many records of each event of the plan had no room, to the last one;
// ok is false where the kernel does not tell by event. What has no samples of its own but
// some of its events loses nothing with them.
func (t *Target) Lost() (by []int64, ok bool, err error) {
	if !perf.TellsLost() {
		return nil, false, nil
	}
	by = make([]int64, len(t.plan))
	for _, f := range t.files {
		if t.plan[f.event].Cycles {
			return nil, false, nil // whose files say other things
		}
		var b [16]byte
		if _, err := unix.Read(f.fd, b[:]); err != nil {
			return nil, false, fmt.Errorf("reading what was lost: %w", err)
		}
		by[f.event] += int64(binary.NativeEndian.Uint64(b[8:]))
	}
	return by, true, nil
}

// Close closes all events and unmaps their rings.
func (t *Target) Close() error {
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
