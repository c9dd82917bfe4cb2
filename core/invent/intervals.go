package invent

import (
	"fmt"
	"math"
	"math/rand/v2"

	"entelon/core/measure"
	"entelon/core/profile"
)

// A third of a thread's waits are for a lock and end by another thread; a third are for events; the
// others for the disk, or for a timer. Behind every second one the thread waits for a processor.
var inventedWaits = []profile.Mark{profile.WaitLock, profile.WaitLock, profile.WaitEvents, profile.WaitEvents, profile.WaitDisk, profile.WaitSleep}

// intervals invents what threads waited for over the time of a take, which fills a part of it, what
// system calls they made and what they asked of disks, each in the order of their ends, as in a real one. It
// returns how many there are.
func (n Invention) intervals(b *profile.Builder, r *rand.Rand, pid profile.ProcessID, stacks []profile.StackID, duration int64) []profile.Counting {
	if n.Intervals == 0 {
		return nil
	}
	// What each measure comes to is one sample's: the first column of each, and its count where it has one.
	sums := map[string]*[3]int64{measure.Waiting: {}, measure.Syscalls: {}, measure.Disk: {}}
	disk, _ := profile.EventsOf(diskColumn)
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
	requests := []profile.StackID{b.Push(stacks[0], b.Mark(profile.DiskWrite, profile.DiskWrite.Key())), b.Push(stacks[0], b.Mark(profile.DiskRead, profile.DiskRead.Key()))}
	files := make([]int64, 200)
	for i := range files {
		files[i] = int64(b.Intern(fmt.Sprintf("/srv/shop/plates/%s-%d.plate", inventedAreas[i%len(inventedAreas)], i)))
	}
	failed, disks := int64(b.Intern("EAGAIN")), []int64{int64(b.Intern("vda")), int64(b.Intern("vdb"))}
	bytes := func() int64 { return int64(65536 * math.Pow(r.Float64(), 4)) }
	count := func(name string, ns, size int64) {
		sums[name][0], sums[name][1], sums[name][2] = sums[name][0]+1, sums[name][1]+ns, sums[name][2]+size
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
		switch k % 10 {
		case 0, 1, 3, 6, 8:
			x.Kind, x.Stack = profile.IntervalWait, waits[int(float64(len(waits))*math.Pow(r.Float64(), 2))]
			x.Ended, x.By, x.ByStack = true, threads[r.IntN(len(threads))], stacks[int(float64(len(stacks))*math.Pow(r.Float64(), 6))]
			b.Interval(x)
			count(measure.Waiting, x.Duration, 0)
		case 2, 5:
			x.Kind, x.Stack = profile.IntervalReady, ready
			b.Interval(x)
			b.Attribute(profile.AttributeProcessor, int64(r.IntN(8)))
			count(measure.Waiting, x.Duration, 0)
		case 9:
			x.Kind, x.Stack = disk, requests[r.IntN(2)]
			b.Interval(x)
			size := 512 * (1 + bytes()/512)
			b.AttributeOf(profile.AttributeMoved, profile.AttributeBytes, size)
			b.AttributeOf(profile.AttributeDevice, profile.AttributeText, disks[r.IntN(2)])
			count(measure.Disk, 0, size)
		default:
			x.Kind, x.Stack = profile.IntervalCall, calls[int(float64(len(calls))*math.Pow(r.Float64(), 2))]
			b.Interval(x)
			count(measure.Syscalls, x.Duration, 0)
			if k%20 == 4 {
				b.Attribute(profile.AttributeResult, -11)
				b.AttributeOf(profile.AttributeError, profile.AttributeText, failed)
				break
			}
			size := bytes()
			b.Attribute(profile.AttributeResult, size)
			b.AttributeOf(profile.AttributeMoved, profile.AttributeBytes, size)
			b.AttributeOf(profile.AttributeFile, profile.AttributeText, files[int(float64(len(files))*math.Pow(r.Float64(), 3))])
		}
	}
	for _, t := range threads {
		b.Interval(profile.Interval{Duration: duration, Thread: t, Kind: profile.IntervalAlive})
	}
	w, c, d := sums[measure.Waiting], sums[measure.Syscalls], sums[measure.Disk]
	b.Sample(0, threads[0], waits[0], 0, w[1], 0, 0, 0, 0)
	b.Sample(0, threads[0], calls[0], 0, 0, c[1], c[0], 0, 0)
	b.Sample(0, threads[0], requests[0], 0, 0, 0, 0, d[2], d[0])
	var out []profile.Counting
	for _, name := range counted {
		n := sums[name][0]
		out = append(out, profile.Counting{Measure: name, Events: n, Singly: 1, Intervals: n})
	}
	return out
}

// counted are the measures of a take with intervals, and diskColumn the first column of the last.
var counted = []string{measure.Waiting, measure.Syscalls, measure.Disk}

const diskColumn = 4
