package lanes_test

import (
	"sync"
	"testing"

	"entelon/core/invent"
	"entelon/core/lanes"
	"entelon/core/profile"
)

// large is a take of ten minutes with ten million waits and system calls of 300 threads.
var large = sync.OnceValue(func() *profile.Take {
	return invent.Invention{Samples: 100_000, Stacks: 20_000, Seed: 1, Intervals: 10_000_000, Lanes: 300, Seconds: 600}.Take()
})

func BenchmarkNew(b *testing.B) {
	t := large()
	for b.Loop() {
		lanes.New(t)
	}
}

// BenchmarkRows draws all lanes of a take over all of its time.
func BenchmarkRows(b *testing.B) {
	x := lanes.New(large())
	b.ReportMetric(float64(x.Bytes())/1e6, "MB")
	for b.Loop() {
		for i := range x.Lanes {
			x.Row(i, 0, x.Duration, 1200)
		}
	}
}

// BenchmarkRowsInView draws forty lanes, which is more than a screen has.
func BenchmarkRowsInView(b *testing.B) {
	x := lanes.New(large())
	for b.Loop() {
		for i := range 40 {
			x.Row(i, 0, x.Duration, 1200)
		}
	}
}
