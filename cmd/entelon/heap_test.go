package main

import (
	"testing"

	"entelon/server"
)

// TestHeapTerms: only a machine that has memory left beside what is kept of takes
// lets the heap grow, and never beyond half of it.
func TestHeapTerms(t *testing.T) {
	for memory, generous := range map[int64]bool{1 << 30: false, 4 << 30: false, 6 << 30: true, 24 << 30: true, 1 << 40: true} {
		percent, limit := heapTerms(memory)
		if (percent > 100) != generous || generous && (limit > memory/2 || limit <= server.DefaultCache || limit > 2*server.DefaultCache) {
			t.Errorf("with %d MB: %d %%, %d MB", memory>>20, percent, limit>>20)
		}
	}
}
