// Command goroutines calls leaf from many goroutines, at depths for which their stacks are made
// larger again and again, and lets others go on in between. It prints how often it called it.
package main

import (
	"fmt"
	"runtime"
	"sync"
	"sync/atomic"
)

var calls atomic.Int64

//go:noinline
func leaf(n int) int {
	calls.Add(1)
	for range 20 {
		n = n*7 + 1
	}
	return n
}

// deep has a frame of a kilobyte.
//
//go:noinline
func deep(depth, n int) int {
	var room [128]int
	for i := range room {
		room[i] = n + i
	}
	n += leaf(room[depth%128])
	switch depth % 3 {
	case 0:
		runtime.Gosched()
	case 1:
		ready := make(chan int)
		go func() { ready <- leaf(n) }()
		n += <-ready
	}
	if depth > 0 {
		n += deep(depth-1, n)
	}
	return n + leaf(room[n&127])
}

//go:noinline
func worker(n int, done *sync.WaitGroup) {
	defer done.Done()
	for range 3 {
		deep(40, n)
	}
}

func main() {
	var done sync.WaitGroup
	for n := range 12 {
		done.Add(1)
		go worker(n, &done)
	}
	done.Wait()
	fmt.Println(calls.Load())
}
