package events_test

import (
	"testing"

	"entelon/core/events"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scope"
)

// TestIntervalsAreRows: where each wait was kept with its beginning and its end, these are the rows,
// and not the samples beside them; a scope asks for their lengths.
func TestIntervalsAreRows(t *testing.T) {
	waiting, err := measure.Parse("waiting")
	if err != nil {
		t.Fatal(err)
	}
	b := profile.NewBuilder()
	for _, c := range waiting.Columns() {
		b.Column(c)
	}
	thread := b.Thread(b.Process(1), 1)
	lock := b.Push(0, b.Mark(profile.WaitLock, profile.WaitLock.Key()))
	call := b.Push(0, b.Mark(profile.SystemCall, profile.SystemCallKey("futex")))
	b.Sample(5, thread, lock, 600) // stands for all three
	for i, ns := range []int64{100, 200, 300} {
		b.Interval(profile.Interval{Start: int64(1000 * i), Duration: ns, Thread: thread, Kind: profile.IntervalWait, Stack: lock})
		b.Interval(profile.Interval{Start: int64(1000 * i), Duration: ns + 50, Thread: thread, Kind: profile.IntervalCall, Stack: call})
	}
	b.Interval(profile.Interval{Duration: 5000, Thread: thread, Kind: profile.IntervalAlive})
	tk := &profile.Take{Settings: profile.Settings{Measures: []string{"waiting"}}, Profile: b.Profile()}
	tk.Facts.Counted = []profile.Counting{{Measure: "waiting", Events: 5, Singly: 1, Intervals: 3, Thinned: 2}}
	kinds := events.KindsOf(tk)
	if len(kinds) != 1 || !kinds[0].Apart || kinds[0].Single != 3 || !kinds[0].Thinned() {
		t.Fatalf("%+v", kinds)
	}
	for text, want := range map[string]struct{ rows, total int64 }{
		"": {3, 600}, "waiting over 150 ns": {2, 500}, "not waiting over 150 ns": {1, 100}, "state is lock": {3, 600}, "state is disk": {0, 0},
		"time from 0.000001 s": {2, 500}, "thread is 1 and waiting under 150 ns": {1, 100},
	} {
		sc, err := scope.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		f := events.Find(tk.Profile, events.Question{Kind: kinds[0], Scope: sc, By: events.ByAmount})
		if f.All != want.rows || f.Total != want.total {
			t.Errorf("%q: %d rows, %d ns, want %+v", text, f.All, f.Total, want)
		}
		if text == "" && (f.Rows[0].Amount != 300 || f.Rows[0].Time != 2000 || f.Rows[0].Sample != 4) {
			t.Errorf("the longest is %+v", f.Rows[0])
		}
	}
}
