// engravers has goroutines that wait for each other in known ways, and functions that are called a known
// number of times: on fresh stacks that have to grow, on one thread and then another, recursively, and
// left by a panic. On standard error it says how often each function was called, how long each call
// of engrave took by its own clock and by its caller's, and how long each wait of engrave for the lock was and whether saver held it meanwhile,
// in nanoseconds.
package main

import (
	"fmt"
	"os"
	"runtime"
	"sync"
	"time"
)

var (
	glyphs sync.Mutex
	held   bool // by saver
	said   []string
	saying sync.Mutex
)

const (
	pages   = 60
	workers = 3
	deep    = 200
)

//go:noinline
func save() {
	glyphs.Lock()
	held = true
	time.Sleep(4 * time.Millisecond)
	held = false
	glyphs.Unlock()
}

//go:noinline
func engrave() (took, waited time.Duration, saver bool) {
	began := time.Now()
	saver = held // it may let go, or begin, just now
	asked := time.Now()
	glyphs.Lock()
	got := time.Now()
	spin(200 * time.Microsecond)
	glyphs.Unlock()
	runtime.Gosched()
	spin(100 * time.Microsecond)
	return time.Since(began), got.Sub(asked), saver
}

func spin(d time.Duration) (n int) {
	for end := time.Now().Add(d); time.Now().Before(end); n++ {
	}
	return n
}

// dive needs more stack than a new goroutine has.
//
//go:noinline
func dive(n int) byte {
	var room [512]byte
	if n == 0 {
		return 0
	}
	room[n%512] = dive(n - 1)
	return room[(n*7)%512] + 1
}

//go:noinline
func stumble(n int) int {
	if n%2 == 0 {
		panic("even")
	}
	return n
}

//go:noinline
func careful(n int) (out int) {
	defer func() { _ = recover() }()
	return stumble(n)
}

func main() {
	var all sync.WaitGroup
	done := make(chan bool)
	go saver(done)
	for range workers {
		all.Go(worker)
	}
	all.Wait()
	done <- true
	for range 20 { // not all at once: so many calls in no time are not kept one by one
		all.Go(func() { dive(deep) })
		time.Sleep(8 * time.Millisecond)
	}
	for n := range 100 {
		careful(n)
	}
	all.Wait()
	for _, s := range said {
		fmt.Fprintln(os.Stderr, s)
	}
	fmt.Fprintf(os.Stderr, "calls engrave %d dive %d careful %d stumble %d returned %d\n", pages*workers, 20*(deep+1), 100, 100, 50)
}

func saver(done chan bool) {
	for {
		select {
		case <-done:
			return
		case <-time.After(10 * time.Millisecond):
			save()
		}
	}
}

func worker() {
	for range pages {
		called := time.Now()
		took, waited, saver := engrave()
		whole := time.Since(called)
		saying.Lock()
		said = append(said, fmt.Sprintf("wait %d %v", waited.Nanoseconds(), saver), fmt.Sprintf("engrave %d %d", took.Nanoseconds(), whole.Nanoseconds()))
		saying.Unlock()
		time.Sleep(time.Millisecond)
	}
}
