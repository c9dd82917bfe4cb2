package rings

import (
	"sync"
	"testing"
	"time"

	"entelon/linux"
)

// queueOnly is a drainer without rings.
func queueOnly() *drainer {
	d := &drainer{}
	d.more = sync.NewCond(&d.mu)
	return d
}

// TestQueueIsBounded: what does not fit is counted, not kept, and the queue
// takes more as soon as there is room.
func TestQueueIsBounded(t *testing.T) {
	d := queueOnly()
	d.push(round{at: 1, bytes: maxQueued - 10})
	d.push(round{at: 2, bytes: 100})
	if d.dropped != 100 || d.queued != maxQueued-10 {
		t.Errorf("%d bytes dropped, %d queued", d.dropped, d.queued)
	}
	if r, ok := d.next(); !ok || r.at != 1 {
		t.Errorf("first came %d", r.at)
	}
	// The round itself stays, so that what is in order before it is handed on.
	if r, ok := d.next(); !ok || r.at != 2 || r.bytes != 0 {
		t.Errorf("then came %d with %d bytes", r.at, r.bytes)
	}
	d.push(round{at: 3, bytes: 100})
	if d.dropped != 100 || d.queued != 100 {
		t.Errorf("with room again: %d bytes dropped, %d queued", d.dropped, d.queued)
	}
}

// TestQueueEnds: one who waits is told when there will be no more.
func TestQueueEnds(t *testing.T) {
	d := queueOnly()
	told := make(chan bool)
	go func() {
		_, ok := d.next()
		told <- ok
	}()
	select {
	case <-told:
		t.Fatal("it did not wait")
	case <-time.After(20 * time.Millisecond):
	}
	d.fail(linux.ErrUnsupported)
	select {
	case ok := <-told:
		if ok {
			t.Error("a round came out of nothing")
		}
	case <-time.After(5 * time.Second):
		t.Fatal("it waits for ever")
	}
	if d.err == nil {
		t.Error("why it ended is lost")
	}
}
