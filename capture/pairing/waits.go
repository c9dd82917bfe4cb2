package pairing

import (
	"fmt"
	"os"
	"strings"

	"entelon/core/profile"
	"entelon/linux/procfs"
	"entelon/linux/tracefs"
	"entelon/resolve"
	"entelon/resolve/raw"
)

// waits follows the threads that are off the processor. A wait begins with the
// sample of the switch, whose stack it keeps, and ends when the thread is
// switched in again. Where it was woken in between, the wait has two parts:
// for what it waited for, and for a processor.
type waits struct {
	r      *resolve.Resolver
	column int
	open   map[uint32]*wait
	reason map[profile.FrameID]profile.Mark // by frame of the kernel, NoMark where it tells nothing
	// Tell has the source add up the wait of a thread that waits when it is attached to;
	// nil: its waits are paired here.
	Tell   func(pid, tid uint32) error
	before map[uint32]profile.Mark // what such threads wait for
	// NoStacks: the kernel's part may not be sampled, so that a thread that leaves the
	// processor gives no sample, only the word that it left.
	NoStacks bool
	counted  *Counted // nil: waits are not kept with their beginning and their end
}

type wait struct {
	resolve.Seen
	begin     uint64 // monotonic; 0: what was waited before is counted already
	woken     uint64 // 0: not yet
	preempted bool
	reason    profile.Mark
}

func newWaits(r *resolve.Resolver, column int) *waits {
	return &waits{r: r, column: column, open: map[uint32]*wait{}, reason: map[profile.FrameID]profile.Mark{}, before: map[uint32]profile.Mark{}}
}

// waitReasons tell what a thread waits for by the kernel's functions on its
// stack; the first that matches counts, from the inner end of the stack on. A
// name that ends with * is a beginning.
var waitReasons = []struct {
	reason profile.Mark
	names  []string
}{
	{profile.WaitLock, []string{"futex_*", "__futex_*", "do_futex", "mutex_lock*", "__mutex_lock*", "rwsem_down_*", "down_read*", "down_write*", "__down_*", "rt_mutex_*", "fcntl_setlk*", "flock_lock_*", "do_semtimedop", "__do_semtimedop"}},
	{profile.WaitSleep, []string{"hrtimer_nanosleep", "do_nanosleep", "common_nsleep*", "__x64_sys_nanosleep", "__x64_sys_clock_nanosleep", "__x64_sys_pause", "__do_sys_pause"}},
	{profile.WaitDisk, []string{"io_schedule*", "blk_*", "submit_bio_wait", "folio_wait_*", "wait_on_page_*", "__wait_on_buffer", "jbd2_*", "filemap_*", "do_writepages", "balance_dirty_pages*"}},
	{profile.WaitNetwork, []string{"tcp_*", "udp_*", "inet_*", "sk_wait_data", "sk_stream_*", "__skb_wait_for_*", "__skb_recv_*", "unix_stream_*", "unix_dgram_*", "unix_accept", "sock_*", "__sys_accept*", "__sys_connect*", "__sys_recvfrom", "netlink_*"}},
	{profile.WaitEvents, []string{"ep_poll", "do_epoll_wait", "do_sys_poll", "do_select", "core_sys_select", "io_cqring_wait", "read_events", "eventfd_read", "timerfd_read", "inotify_read", "do_sigtimedwait", "sigsuspend", "rseq_*"}},
	{profile.WaitInput, []string{"pipe_read", "anon_pipe_read", "pipe_write", "anon_pipe_write", "fifo_open", "tty_read", "n_tty_read", "wait_for_partner"}},
	{profile.WaitProcess, []string{"do_wait", "kernel_wait4", "kernel_waitid", "wait_for_vfork_done", "ptrace_stop", "do_signal_stop"}},
	{profile.WaitMemory, []string{"do_swap_page", "__alloc_pages_slowpath*", "try_to_free_pages", "handle_userfault"}},
}

// reasonOf returns the first reason that the names of kernel functions, the
// innermost first, tell.
func reasonOfName(name string) profile.Mark {
	for _, r := range waitReasons {
		for _, n := range r.names {
			if begin, open := strings.CutSuffix(n, "*"); open && strings.HasPrefix(name, begin) || n == name {
				return r.reason
			}
		}
	}
	return profile.NoMark
}

func (w *waits) reasonOf(kernel []profile.FrameID) profile.Mark {
	p := w.r.Builder.Profile()
	for _, f := range kernel {
		why, ok := w.reason[f]
		if !ok {
			why = reasonOfName(p.FunctionName(p.Frames[f].Function))
			w.reason[f] = why
		}
		if why != profile.NoMark {
			return why
		}
	}
	return profile.WaitUnknown
}

// left takes the sample of a thread that leaves the processor.
func (w *waits) left(rec *raw.Record) {
	x, f := w.r.See(rec)
	w.open[rec.TID] = &wait{Seen: x, begin: rec.Time, reason: w.reasonOf(f.Kernel)}
}

// switched takes the kernel's word that a thread left the processor or came back.
func (w *waits) switched(rec *raw.Record) {
	x := w.open[rec.TID]
	if x == nil && w.NoStacks && rec.Kind == raw.SwitchedOut {
		p := w.r.Processes.Get(rec.PID)
		x = &wait{begin: rec.Time, reason: profile.WaitUnknown, Seen: resolve.Seen{
			At: w.r.Since(rec.Time), Time: rec.Time, Of: p, Thread: w.r.Processes.Thread(p, rec.TID), Ready: true,
			Stack: w.r.Builder.Push(0, w.r.Mark(profile.CutNoMemory)),
		}}
		w.open[rec.TID] = x
	}
	if x == nil {
		return
	}
	if rec.Kind == raw.SwitchedOut {
		x.preempted = x.preempted || rec.Preempted
		return
	}
	delete(w.open, rec.TID)
	w.count(x, rec.Time)
}

// woke takes the kernel's word that a thread may run again.
func (w *waits) woke(tid uint32, at uint64) {
	if x := w.open[tid]; x != nil && x.woken == 0 && at >= x.begin {
		x.woken = at
	}
}

// count adds a wait that ended, or was going on, at a time.
func (w *waits) count(x *wait, until uint64) {
	begin := max(x.begin, w.r.Origin)
	if until <= begin {
		return
	}
	wait, run := until-begin, uint64(0)
	switch {
	case x.preempted || x.woken != 0 && x.woken <= begin:
		wait, run = 0, wait
	case x.woken > begin && x.woken < until:
		wait, run = x.woken-begin, until-x.woken
	}
	if w.counted != nil {
		w.counted.Intervals[w.column]++
		if wait > 0 {
			w.r.KeepInterval(resolve.Passed{Seen: x.Seen, Mark: w.r.Mark(x.reason), Kind: profile.IntervalWait, From: begin, To: begin + wait})
		}
		if run > 0 {
			w.r.KeepInterval(resolve.Passed{Seen: x.Seen, Mark: w.r.Mark(profile.WaitProcessor), Kind: profile.IntervalReady, From: until - run, To: until})
		}
	}
	if wait > 0 {
		w.r.Keep(x.Seen, w.r.Mark(x.reason), w.r.Value(w.column, int64(wait)))
	}
	if run > 0 {
		later := x.Seen
		later.At = w.r.Since(until - run)
		w.r.Keep(later, w.r.Mark(profile.WaitProcessor), w.r.Value(w.column, int64(run)))
	}
}

// part counts what was waited so far where a wait goes on, and has the rest count from
// then on.
func (w *waits) part(at uint64) {
	for tid, x := range w.open {
		if !w.r.Processes.Alive(x.Of.PID, tid) {
			delete(w.open, tid) // that it ended was lost
			continue
		}
		w.count(x, at)
		x.begin, x.At = max(x.begin, at), max(x.At, w.r.Since(at))
	}
}

// carry takes what goes on into another profile.
func (w *waits) carry(c profile.Carry) {
	clear(w.reason)
	for _, x := range w.open {
		x.Seen = resolve.Carried(x.Seen, c)
	}
}

// gone forgets a thread that has ended: it waits for nothing any more.
func (w *waits) gone(tid uint32) { delete(w.open, tid) }

// finish counts the waits that are going on when the take ends.
func (w *waits) finish(at uint64) {
	for _, x := range w.open {
		w.count(x, at)
	}
	clear(w.open)
}

// Already notes the threads of a process that wait when it is attached to.
// Their stacks are not known: they were switched out before.
func (w *waits) Already(pid int) error {
	tids, err := procfs.Threads(pid)
	if err != nil {
		return nil // it has ended, which the take will say
	}
	p := w.r.Processes.Get(uint32(pid))
	for _, tid := range tids {
		b, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/stat", pid, tid))
		if err != nil {
			continue
		}
		// The state is behind the name, which is in brackets and may hold any.
		i := strings.LastIndexByte(string(b), ')')
		if i < 0 || i+2 >= len(b) || b[i+2] != 'S' && b[i+2] != 'D' {
			continue
		}
		why := profile.WaitUnknown
		if b, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/stack", pid, tid)); err == nil {
			why = reasonOfStack(string(b))
		}
		if w.Tell != nil {
			w.before[uint32(tid)] = why
			if err := w.Tell(uint32(pid), uint32(tid)); err != nil {
				return err
			}
			continue
		}
		w.open[uint32(tid)] = &wait{
			Seen: resolve.Seen{
				At: 0, Time: w.r.Origin, Of: p, Thread: w.r.Processes.Thread(p, uint32(tid)), Ready: true,
				Stack: w.r.Builder.Push(0, w.r.Mark(profile.WaitedBefore)),
			},
			begin: w.r.Origin, reason: why,
		}
	}
	return nil
}

// alreadyFor is what a thread waited for when it was attached to.
func (w *waits) alreadyFor(tid uint32) profile.Mark {
	if why, ok := w.before[tid]; ok {
		return why
	}
	return profile.WaitUnknown
}

// reasonOfStack reads lines such as "[<0>] futex_wait_queue+0x6b/0xa0".
func reasonOfStack(text string) profile.Mark {
	for _, line := range strings.Split(text, "\n") {
		_, name, ok := strings.Cut(line, "] ")
		if !ok {
			continue
		}
		name, _, _ = strings.Cut(name, "+")
		if why := reasonOfName(name); why != profile.NoMark {
			return why
		}
	}
	return profile.WaitUnknown
}

// wokenThread reads which thread a record of the wake-up is about.
func wokenThread(rec *raw.Record, point tracefs.Tracepoint) (tid uint32, ok bool) {
	v, ok := point.Fields["pid"].Number(rec.Sample.Data)
	return uint32(v), ok
}
