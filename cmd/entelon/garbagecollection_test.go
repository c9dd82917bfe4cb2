package main

import (
	"math"
	"testing"

	"entelon/cmd/entelon/serving"
)

// TestMemoryTerms: what is said counts, then Go's own limit, then a part of what
// there is; and what is opened has half of it.
func TestMemoryTerms(t *testing.T) {
	const none = math.MaxInt64
	for name, c := range map[string]struct{ given, limit, available, process int64 }{
		"a large machine": {0, none, 64 << 30, serving.MaxMemory},
		"a small machine": {0, none, 4 << 30, 1 << 30},
		"Go's limit":      {0, 700 << 20, 64 << 30, 700 << 20},
		"the operator's":  {5 << 30, 700 << 20, 64 << 30, 5 << 30},
	} {
		process, budget := serving.MemoryTerms(c.given, c.limit, c.available)
		if process != c.process || budget != process/2 {
			t.Errorf("%s: %d and %d, want %d", name, process, budget, c.process)
		}
	}
	if n := serving.Available(); n < 64<<20 {
		t.Errorf("%d bytes are available here", n)
	}
}
