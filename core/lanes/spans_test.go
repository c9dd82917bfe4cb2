package lanes_test

import (
	"testing"

	"entelon/core/lanes"
	"entelon/core/profile"
)

// TestSpansInLanes: spans stand below those that they are in, each with its own bounds or gathered with
// its neighbours; who is known by spans alone is not said to run.
func TestSpansInLanes(t *testing.T) {
	b := profile.NewBuilder()
	process := b.Process(1)
	ours, theirs := b.Thread(process, 10), b.Thread(b.Process(2), 20)
	span := func(thread profile.ThreadID, name string, from, to int64) {
		b.Interval(profile.Interval{Start: from, Duration: to - from, Thread: thread, Kind: profile.IntervalSpan, Stack: b.Push(0, b.Mark(profile.Span, profile.SpanKey(name)))})
	}
	b.Interval(profile.Interval{Duration: 1000, Thread: ours, Kind: profile.IntervalAlive})
	b.Interval(profile.Interval{Start: 400, Duration: 100, Thread: ours, Kind: profile.IntervalWait, Stack: b.Push(0, b.Mark(profile.WaitLock, profile.WaitLock.Key()))})
	span(ours, "draw", 110, 300) // the inner one ended first, and so came first
	span(ours, "page", 100, 600)
	span(ours, "draw", 310, 590)
	for at := int64(700); at < 900; at += 2 {
		span(ours, "note", at, at+1)
	}
	span(theirs, "expose", 200, 400)
	span(theirs, "expose", 300, 500) // overlaps
	for n := range int64(10) {
		span(theirs, "deep", 600+n, 700-n)
	}
	x := lanes.New(&profile.Take{Profile: b.Profile(), Facts: profile.Facts{DurationNS: 1000}})
	if len(x.Lanes) != 2 || lanes.SpanLevelsOf(x, 0) != 2 || lanes.SpanLevelsOf(x, 1) != lanes.MaxSpanLevels {
		t.Fatalf("%d lanes, levels %d and %d", len(x.Lanes), lanes.SpanLevelsOf(x, 0), lanes.SpanLevelsOf(x, 1))
	}
	if x.Lanes[1].Spent[lanes.Running] != 0 || x.Lanes[1].Spent[lanes.Unknown] != 500 || x.Lanes[0].Spent[lanes.Running] != 900 {
		t.Errorf("spent %v and %v", x.Lanes[0].Spent, x.Lanes[1].Spent)
	}
	got := x.Spans(0, 0, 1000, 100)
	if len(got) != 4 || got[0].From != 100 || got[0].To != 600 || got[0].Level != 0 || got[1].Count != 100 || got[1].From != 700 || got[1].To != 899 || got[2].Level != 1 || got[2].From != 110 || got[3].From != 310 || got[3].Count != 1 {
		t.Errorf("%+v", got)
	}
	// In a part of the time are those that reach into it, in their full length.
	if got := x.Spans(0, 250, 320, 1000); len(got) != 3 || got[0].From != 100 || got[1].To != 300 || got[2].From != 310 {
		t.Errorf("%+v", got)
	}
	all := 0
	for _, r := range x.Spans(1, 0, 1000, 100000) {
		all += r.Count
	}
	if all != 12 {
		t.Errorf("%d of 12 spans are there", all)
	}
}
