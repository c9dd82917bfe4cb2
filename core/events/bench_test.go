package events_test

import (
	"testing"

	"entelon/core/events"
	"entelon/core/invent"
	"entelon/core/scope"
)

// BenchmarkTenMillion is totals, percentiles, steps, density, sums by text and the first rows of all events
// of a take with ten million intervals, and of those that a filter keeps.
func BenchmarkTenMillion(b *testing.B) {
	t := invent.Invention{Samples: 2000, Stacks: 3000, Seed: 4, Intervals: 10_000_000, Lanes: 300, Seconds: 600}.Take()
	for _, k := range events.KindsOf(t) {
		columns := events.ColumnsOf(t.Profile, &k)
		for _, text := range []string{"", "in events where duration > 100 µs", "thread is 1003"} {
			sc, err := scope.Parse(text)
			if err != nil {
				b.Fatal(err)
			}
			b.Run(k.Name+" "+text, func(b *testing.B) {
				for b.Loop() {
					f := events.Find(t.Profile, events.Question{Kind: k, Scope: sc, By: events.ByAmount, Limit: 300, To: t.Facts.DurationNS, Bins: 120, Columns: columns})
					if f.All == 0 && text == "" {
						b.Fatal("nothing was found")
					}
				}
			})
		}
	}
	b.Run("columns", func(b *testing.B) {
		for b.Loop() {
			events.ColumnsOf(t.Profile, &events.KindsOf(t)[0])
		}
	})
	b.Run("kinds", func(b *testing.B) {
		for b.Loop() {
			events.KindsOf(t)
		}
	})
}
