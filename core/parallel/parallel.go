// Package parallel shares work on a slice among the processors, where there is enough of it. Its
// goroutines end with the call; what they share is guarded by whoever calls.
package parallel

import (
	"iter"
	"runtime"
	"sync"
	"sync/atomic"
)

// Worth is from how many on work is shared among processors.
const Worth = 1 << 17

// piecesEach is in how many pieces work is cut for each processor: another program
// may use one of them for a while, and then the others do more.
const piecesEach = 8

// Pieces has all of n done, in pieces that follow each other, on all processors
// where that is worth it. work is called once for each, with the pieces that fall
// to it.
func Pieces(n int, work func(pieces iter.Seq2[int, int])) { PiecesFrom(Worth, n, work) }

// PiecesFrom shares from so many on, where each takes longer.
func PiecesFrom(worth, n int, work func(pieces iter.Seq2[int, int])) {
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

// Each does something for all of n, in pieces.
func Each(n int, do func(low, high int)) {
	Pieces(n, func(pieces iter.Seq2[int, int]) {
		for low, high := range pieces {
			do(low, high)
		}
	})
}
