package pairing

import (
	"strings"

	"entelon/capture/rings"
	"entelon/core/profile"
	"entelon/resolve"
	"entelon/resolve/raw"
)

// KeepIntervals says whether waits, system calls and the lives of threads are kept with their
// beginning and their end, beside what they add up to.
func (c *Consumer) KeepIntervals(keep bool) {
	c.lives.keep = keep
	if c.Waits != nil && keep {
		c.Waits.counted = &c.Counted
	}
	if c.syscalls != nil && keep {
		c.syscalls.counted = &c.Counted
	}
}

// passed takes a wait or a system call that has ended, of a class that the source adds up. Its
// stack is that of the class's sample before, which is its own where it has one.
func (ts *tallies) passed(rec *raw.Record) {
	x := rec.Interval
	if !ts.c.lives.keep {
		return // what goes on when a collection of windows ends
	}
	if x.Class.Event < 0 || x.Class.Event >= len(ts.c.events) {
		return
	}
	e := ts.c.events[x.Class.Event]
	r := ts.c.resolver
	t := ts.class(x.Class)
	if !t.has {
		ts.unseen(t, x.Class)
	}
	begin := max(x.Begin, r.Origin)
	if t.left || t.nobody || x.End < begin {
		return
	}
	out := resolve.Passed{Seen: t.last, Mark: t.mark, From: begin, To: x.End}
	ts.c.Counted.Intervals[e.Column]++
	if e.Role == rings.RoleEnter {
		out.Kind, out.Result, out.HasResult = profile.IntervalCall, x.Result, x.Returned
		out.More = ts.c.aboutCall(x)
		r.KeepInterval(out)
		return
	}
	if e.Role == rings.RoleSpan {
		out.Kind, out.Open = profile.IntervalSpan, x.Open
		if x.Goroutine != 0 {
			out.Thread = r.Processes.Goroutine(out.Of, x.Goroutine)
		}
		r.KeepInterval(out)
		return
	}
	woken := min(max(x.Woken, begin), x.End)
	if woken > begin {
		out.Kind, out.To = profile.IntervalWait, woken
		if x.HasWaker {
			out.Ended = ts.wakerOf(x)
		}
		r.KeepInterval(out)
	}
	if woken < x.End {
		r.KeepInterval(resolve.Passed{
			Seen: t.last, Mark: r.Mark(profile.WaitProcessor), Kind: profile.IntervalReady, From: woken, To: x.End,
			Processor: int64(x.Processor), HasProcessor: !x.Open,
		})
	}
}

// wakerOf is who woke the thread of a wait, by the last sample of such wake-ups; nil where there
// is none.
func (ts *tallies) wakerOf(x *raw.Interval) *resolve.Waker {
	w := ts.of[x.Waker]
	if w == nil || !w.has {
		return nil
	}
	return &resolve.Waker{Seen: w.last, Interrupt: w.interrupt}
}

// woke takes a sample of a thread that wakes others, or in which an interrupt does.
func (ts *tallies) woke(t *tallied, rec *raw.Record) {
	r := ts.c.resolver
	if !ts.ours(rec.PID) {
		// What its code is, is none of this take's business: only who it is, and what the kernel did.
		rec.Sample.Copied, rec.Sample.Chain = false, nil
	}
	seen, frames := r.See(rec)
	t.last, t.interrupt = seen, nil
	for i, f := range frames.Kernel {
		if interrupts(r.FunctionName(f)) || rec.TID == 0 && i == len(frames.Kernel)-1 {
			t.interrupt = append(t.interrupt, frames.Kernel[:i+1]...)
			return
		}
	}
}

// ours reports whether a process is one of those that the take is of: of them alone something was
// told before they woke anybody.
func (ts *tallies) ours(pid uint32) bool {
	if ts.c.Everyone {
		return true
	}
	if is, known := ts.foreign[pid]; known {
		return !is
	}
	is := ts.c.resolver.Processes.Known[pid] == nil
	ts.foreign[pid] = is
	return !is
}

// interruptFunctions are those of the kernel in which an interrupt begins. A name that ends
// with * is a beginning.
var interruptFunctions = []string{"asm_sysvec_*", "sysvec_*", "asm_common_interrupt", "common_interrupt", "__sysvec_*", "irq_exit_rcu", "asm_exc_nmi"}

func interrupts(name string) bool {
	for _, n := range interruptFunctions {
		if begin, open := strings.CutSuffix(n, "*"); open && strings.HasPrefix(name, begin) || n == name {
			return true
		}
	}
	return false
}

// lives follows when threads begin and end.
type lives struct {
	keep bool
	over map[whose][]life
}

type whose struct{ pid, tid uint32 }

type life struct{ from, to uint64 }

// maxLives is how many threads that have ended are remembered, for those of them that turn out
// to have a sample: some 16 MB.
const maxLives = 1 << 17

// ended takes the word that a thread has ended.
func (l *lives) ended(rec *raw.Record, r *resolve.Resolver) {
	if !l.keep || len(l.over) >= maxLives {
		return
	}
	if l.over == nil {
		l.over = map[whose][]life{}
	}
	k := whose{rec.PID, rec.TID}
	l.over[k] = append(l.over[k], life{r.Processes.Born(rec.TID), rec.Time})
}

// settle adds the life of each thread of the profile, which ends with the take where it did not
// before.
func (l *lives) settle(r *resolve.Resolver, end uint64) {
	if !l.keep {
		return
	}
	p := r.Builder.Profile()
	ours := make([]bool, len(p.Threads)) // others only woke somebody
	for _, id := range p.Samples.Thread {
		ours[id] = true
	}
	for _, id := range p.Intervals.Thread {
		ours[id] = true
	}
	nameGoroutines(r)
	for id, t := range p.Threads {
		if !ours[id] || t.Goroutine {
			continue
		}
		k := whose{p.Processes[t.Process].PID, t.TID}
		all := l.over[k]
		if len(all) == 0 {
			all = []life{{r.Processes.Born(t.TID), end}}
		}
		for _, x := range all {
			from := max(x.from, r.Origin)
			if x.to <= from {
				continue
			}
			r.Builder.Interval(profile.Interval{Start: r.Since(from), Duration: int64(x.to - from), Thread: profile.ThreadID(id), Kind: profile.IntervalAlive})
		}
	}
}
