package calltree

import (
	"iter"
	"runtime"
	"sync"
	"sync/atomic"
)

// worthSharing is from how many on work is shared among processors.
const worthSharing = 1 << 17

// piecesEach is in how many pieces work is cut for each processor: another program
// may use one of them for a while, and then the others do more.
const piecesEach = 8

// shared has all of n done, in pieces that follow each other, on all processors
// where that is worth it. work is called once for each, with the pieces that fall
// to it.
func shared(n int, work func(pieces iter.Seq2[int, int])) { sharedFrom(worthSharing, n, work) }

// sharedFrom shares from so many on, where each takes longer.
func sharedFrom(worth, n int, work func(pieces iter.Seq2[int, int])) {
	processors := runtime.GOMAXPROCS(0)
	if n < worth || processors == 1 {
		work(func(yield func(int, int) bool) { yield(0, n) })
		return
	}
	pieces := processors * piecesEach
	var next atomic.Int64
	var all sync.WaitGroup
	for range processors {
		all.Go(func() {
			work(func(yield func(int, int) bool) {
				for i := int(next.Add(1) - 1); i < pieces; i = int(next.Add(1) - 1) {
					if !yield(n*i/pieces, n*(i+1)/pieces) {
						return
					}
				}
			})
		})
	}
	all.Wait()
}

// parallel does something for all of n, in pieces.
func parallel(n int, do func(low, high int)) {
	shared(n, func(pieces iter.Seq2[int, int]) {
		for low, high := range pieces {
			do(low, high)
		}
	})
}
