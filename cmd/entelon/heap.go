package main

import (
	"os"
	"runtime/debug"

	"entelon/sampler"
	"entelon/server"
)

// lazyCollection is by how many percent the server's heap may grow between two
// collections of garbage, where memory is at hand: opening a take makes little
// garbage and much that stays, and collecting in the middle of it takes a third of
// the time that somebody waits for the first picture.
const lazyCollection = 400

// heapTerms tells how the server's heap may grow on a machine with so much memory:
// a percentage for the collector, and a limit beyond which it works harder. 0, 0
// leaves Go's own terms.
func heapTerms(memory int64) (percent int, limit int64) {
	limit = min(2*server.DefaultCache, memory/2)
	if limit <= server.DefaultCache {
		return 0, 0 // there is no memory to be generous with
	}
	return lazyCollection, limit
}

// growHeap sets the terms, unless the environment says other ones.
func growHeap() {
	if os.Getenv("GOGC") != "" || os.Getenv("GOMEMLIMIT") != "" {
		return
	}
	if percent, limit := heapTerms(sampler.Machine().MemoryB); percent > 0 {
		debug.SetGCPercent(percent)
		debug.SetMemoryLimit(limit)
	}
}
