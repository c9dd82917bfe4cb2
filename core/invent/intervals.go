package invent

import (
	"fmt"
	"math"
	"math/rand/v2"

	"entelon/core/profile"
)

// A third of a thread's waits are for a lock and end by another thread; a third are for events; the
// others for the disk, or for a timer. Behind every second one the thread waits for a processor.
var inventedWaits = []profile.Mark{profile.WaitLock, profile.WaitLock, profile.WaitEvents, profile.WaitEvents, profile.WaitDisk, profile.WaitSleep}

// intervals invents what threads waited for over the time of a take, which fills a part of it, and
// what system calls they made, each in the order of their ends, as in a real one.
func (n Invention) intervals(b *profile.Builder, r *rand.Rand, pid profile.ProcessID, stacks []profile.StackID, duration int64) {
	if n.Intervals == 0 {
		return
	}
	threads := make([]profile.ThreadID, max(1, n.Lanes))
	for i := range threads {
		threads[i] = b.Thread(pid, uint32(4711+i))
		b.NameThread(threads[i], fmt.Sprintf("worker-%d", i+1))
	}
	waits := make([]profile.StackID, 0, 600)
	for i := range cap(waits) {
		m := inventedWaits[i%len(inventedWaits)]
		waits = append(waits, b.Push(stacks[r.IntN(len(stacks))], b.Mark(m, m.Key())))
	}
	ready := b.Push(stacks[0], b.Mark(profile.WaitProcessor, profile.WaitProcessor.Key()))
	calls := make([]profile.StackID, 0, 200)
	for i := range cap(calls) {
		name := []string{"read", "write", "futex", "epoll_wait", "nanosleep"}[i%5]
		calls = append(calls, b.Push(stacks[r.IntN(len(stacks))], b.Mark(profile.SystemCall, profile.SystemCallKey(name))))
	}
	apart := float64(duration) / float64(n.Intervals)
	free := make([]int64, len(threads)) // until when a thread is in something
	end := int64(0)
	for k := range n.Intervals {
		end += int64(apart * r.ExpFloat64())
		if end > duration {
			break
		}
		th := r.IntN(len(threads))
		// Mostly a few microseconds, some of them milliseconds.
		long := int64(4000 * math.Pow(r.Float64(), -1.2))
		start := max(free[th], end-long)
		if start >= end {
			start = end - 1
		}
		free[th] = end
		x := profile.Interval{Start: max(0, start), Duration: end - max(0, start), Thread: threads[th]}
		switch k % 4 {
		case 0, 1:
			x.Kind, x.Stack = profile.IntervalWait, waits[int(float64(len(waits))*math.Pow(r.Float64(), 2))]
			x.Ended, x.By, x.ByStack = true, threads[r.IntN(len(threads))], stacks[int(float64(len(stacks))*math.Pow(r.Float64(), 6))]
			b.Interval(x)
		case 2:
			x.Kind, x.Stack = profile.IntervalReady, ready
			b.Interval(x)
			b.Attribute(profile.AttributeProcessor, int64(r.IntN(8)))
		default:
			x.Kind, x.Stack = profile.IntervalCall, calls[int(float64(len(calls))*math.Pow(r.Float64(), 2))]
			b.Interval(x)
			b.Attribute(profile.AttributeResult, int64(float64(4096)*math.Pow(r.Float64(), 4)))
		}
	}
	for _, t := range threads {
		b.Interval(profile.Interval{Duration: duration, Thread: t, Kind: profile.IntervalAlive})
	}
}
