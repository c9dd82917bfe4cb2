package tree

import (
	"runtime"
	"sync"
)

// worthSharing is from how many on work is shared among processors.
const worthSharing = 1 << 17

// parallel does something for all of n, on all processors where that is worth it.
func parallel(n int, do func(low, high int)) {
	parts := runtime.GOMAXPROCS(0)
	if n < worthSharing || parts == 1 {
		do(0, n)
		return
	}
	var all sync.WaitGroup
	for i := range parts {
		all.Go(func() { do(n*i/parts, n*(i+1)/parts) })
	}
	all.Wait()
}
