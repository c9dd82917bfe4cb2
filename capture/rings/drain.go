// Package rings samples with perf events: it opens them on whom is to be sampled, drains
// the rings of memory into which the kernel writes, puts what comes of all processors into
// the order of time, and hands it on as raw records.
//
// Two goroutines run for a Source. The drainer owns the rings and hands rounds of records
// on through a queue, which its lock guards; it never waits for anything but the kernel.
// Who calls Next owns everything else.
package rings

import (
	"errors"
	"fmt"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"entelon/linux/perf"
)

// drainEvery is the longest time between two looks at the rings. The kernel
// wakes the drainer earlier when a quarter of one is full.
const drainEvery = 100 * time.Millisecond

// calmEvery is the same of a take at a low rate that has gone on for a while: it has little
// to drain, and each look costs the same.
const (
	calmEvery = 250 * time.Millisecond
	calmRate  = 250
	calmAfter = 2 * time.Second
)

// maxQueued bounds what is drained but not yet resolved.
const maxQueued = 512 << 20

// round is what one look at all rings brought, with the time just before it.
type round struct {
	at    uint64 // CLOCK_MONOTONIC nanoseconds
	rings [][]byte
	bytes int
}

// drainer copies rings into a queue, so that slow work behind it (reading
// symbols, writing to disk) never lets a ring fill up.
type drainer struct {
	target *Target
	stop   int // eventfd

	mu      sync.Mutex
	more    *sync.Cond
	queue   []round
	queued  int
	dropped int64 // bytes given up because the queue was full
	spare   [][]byte
	ended   bool
	err     error
}

func newDrainer(t *Target) (*drainer, error) {
	fd, err := unix.Eventfd(0, unix.EFD_CLOEXEC|unix.EFD_NONBLOCK)
	if err != nil {
		return nil, fmt.Errorf("preparing to drain: %w", err)
	}
	d := &drainer{target: t, stop: fd}
	d.more = sync.NewCond(&d.mu)
	go d.run()
	return d, nil
}

// finish drains once more and ends the queue.
func (d *drainer) finish() error {
	_, err := unix.Write(d.stop, []byte{1, 0, 0, 0, 0, 0, 0, 0})
	return err
}

func (d *drainer) run() {
	fds := make([]unix.PollFd, 0, len(d.target.rings)+1)
	fds = append(fds, unix.PollFd{Fd: int32(d.stop), Events: unix.POLLIN})
	for _, r := range d.target.rings {
		fds = append(fds, unix.PollFd{Fd: int32(r.FD), Events: unix.POLLIN})
	}
	began := time.Now()
	for stopping := false; ; {
		d.push(d.once())
		if stopping {
			break
		}
		wait := drainEvery
		if d.target.calm() && time.Since(began) > calmAfter {
			wait = calmEvery
		}
		_, err := unix.Poll(fds, int(wait.Milliseconds()))
		if err != nil && !errors.Is(err, unix.EINTR) {
			d.fail(fmt.Errorf("waiting for samples: %w", err))
			return
		}
		stopping = fds[0].Revents != 0
		for i := range fds[1:] {
			if fds[i+1].Revents&unix.POLLHUP != 0 {
				fds[i+1].Fd = -1 // all its threads have ended; it is drained by time from now on
			}
		}
	}
	d.mu.Lock()
	d.ended = true
	d.mu.Unlock()
	d.more.Broadcast()
	unix.Close(d.stop)
}

func (d *drainer) once() round {
	r := round{at: perf.Now()}
	for _, ring := range d.target.rings {
		b := ring.Drain(d.buffer())
		r.rings = append(r.rings, b)
		r.bytes += len(b)
	}
	return r
}

// buffer returns a buffer that was done with, or nil.
func (d *drainer) buffer() []byte {
	d.mu.Lock()
	defer d.mu.Unlock()
	n := len(d.spare)
	if n == 0 {
		return nil
	}
	b := d.spare[n-1]
	d.spare = d.spare[:n-1]
	return b[:0]
}

// done gives back the buffers of a round of which nothing is needed any more.
func (d *drainer) done(r round) {
	const keep, most = 8, 2 << 20 // buffers, and the bytes of one: a stall may fill a ring once
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, b := range r.rings {
		if len(d.spare) < keep && cap(b) > 0 && cap(b) <= most {
			d.spare = append(d.spare, b)
		}
	}
}

func (d *drainer) push(r round) {
	d.mu.Lock()
	if d.queued+r.bytes > maxQueued {
		d.dropped += int64(r.bytes)
		r.rings, r.bytes = nil, 0
	}
	d.queue = append(d.queue, r)
	d.queued += r.bytes
	d.mu.Unlock()
	d.more.Signal()
}

// discard waits until the drainer has ended, without looking at what it brings.
// Only then may the rings be unmapped.
func (d *drainer) discard() error {
	for {
		if _, ok := d.next(); !ok {
			return d.err
		}
	}
}

func (d *drainer) fail(err error) {
	d.mu.Lock()
	d.err, d.ended = err, true
	d.mu.Unlock()
	d.more.Broadcast()
}

// next waits for a round; ok is false when there will be no more.
func (d *drainer) next() (r round, ok bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for len(d.queue) == 0 && !d.ended {
		d.more.Wait()
	}
	if len(d.queue) == 0 {
		return round{}, false
	}
	r = d.queue[0]
	d.queue = d.queue[1:]
	d.queued -= r.bytes
	return r, true
}
