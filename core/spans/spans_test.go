package spans

import (
	"errors"
	"math/rand/v2"
	"slices"
	"testing"

	"entelon/core/lanes"
	"entelon/core/measure"
	"entelon/core/profile"
)

// shop is a take of two goroutines and a thread that carries one after the other: "draw" waits for a lock that
// "save" holds while it waits for the disk.
func shop() *profile.Take {
	b := profile.NewBuilder()
	b.Column(measure.Column{Name: "cpu", Unit: measure.Nanoseconds})
	process := b.Process(1)
	thread := b.Thread(process, 10)
	draw, save := b.Goroutine(process, 7), b.Goroutine(process, 8)
	b.NameThread(save, "saver")
	main := b.Module(profile.Module{Path: b.Intern("/srv/engraved"), Kind: profile.KindOwn})
	at := func(name string) profile.StackID {
		return b.Push(0, b.Frame(profile.Frame{Function: b.Function(profile.Function{Name: b.Intern(name), Module: main, Kind: profile.KindOwn})}))
	}
	mark := func(s profile.StackID, m profile.Mark) profile.StackID { return b.Push(s, b.Mark(m, m.Key())) }
	span := func(name string) profile.StackID {
		return b.Push(0, b.Mark(profile.Span, profile.SpanKey(name)))
	}
	for _, x := range []profile.Interval{
		{Start: 0, Duration: 1000, Thread: thread, Kind: profile.IntervalAlive},
		{Start: 0, Duration: 100, Thread: draw, Kind: profile.IntervalCarried, Ended: true, By: thread},
		{Start: 100, Duration: 500, Thread: draw, Kind: profile.IntervalWait, Stack: mark(at("glyph.Outline"), profile.WaitLock), Ended: true, By: save, ByStack: at("glyph.Save")},
		{Start: 600, Duration: 50, Thread: draw, Kind: profile.IntervalReady, Stack: mark(0, profile.WaitProcessor)},
		{Start: 650, Duration: 350, Thread: draw, Kind: profile.IntervalCarried, Ended: true, By: thread},
		{Start: 100, Duration: 550, Thread: save, Kind: profile.IntervalCarried, Ended: true, By: thread},
		{Start: 200, Duration: 300, Thread: thread, Kind: profile.IntervalWait, Stack: mark(at("glyph.write"), profile.WaitDisk)},
		{Start: 0, Duration: 1000, Thread: draw, Kind: profile.IntervalSpan, Stack: span("draw")},
		{Start: 10, Duration: 50, Thread: draw, Kind: profile.IntervalSpan, Stack: span("draw")},
	} {
		b.Interval(x)
	}
	b.Attribute(profile.AttributeOpen, 1)
	for _, t := range []int64{50, 150, 550, 700, 900} {
		name := "page.Draw"
		if t > 100 && t < 600 {
			name = "glyph.Save"
		}
		b.Sample(t, thread, at(name), 1)
	}
	return &profile.Take{Profile: b.Profile(), Facts: profile.Facts{DurationNS: 1000}, Settings: profile.Settings{RateHz: 1000}}
}

// TestBlameOfASpan: what a span was slow for adds up to it, and goes down to who held it up, doing what.
func TestBlameOfASpan(t *testing.T) {
	take := shop()
	x, l := New(take.Profile), lanes.New(take)
	n := x.Find("draw")
	if n == nil || len(n.Spans) != 2 || n.Open != 1 || n.Total != 1000 {
		t.Fatalf("the spans are %+v", x)
	}
	b, err := BlameOf(take.Profile, l, "draw", n.Slowest(0.5))
	if err != nil || b.Spans != 1 || b.Total != 1000 || b.Profile.Total(0) != 1000 {
		t.Fatalf("%v: %+v, together %d", err, b, b.Profile.Total(0))
	}
	type row struct {
		thread string
		state  lanes.State
		where  string
	}
	got := map[row]int64{}
	for _, r := range b.Rows {
		where := ""
		if r.Function != 0 {
			where = take.Profile.FunctionName(r.Function)
		}
		got[row{take.Profile.ThreadWords(l.Lanes[r.Lane].Thread), r.State, where}] += r.NS
	}
	want := map[row]int64{
		{"goroutine 8, saver", lanes.Disk, "glyph.write"}:   300,
		{"goroutine 8, saver", lanes.Running, "glyph.Save"}: 200,
		{"goroutine 7", lanes.Running, "page.Draw"}:         450,
		{"goroutine 7", lanes.Ready, ""}:                    50,
	}
	for k, ns := range want {
		if got[k] != ns {
			t.Errorf("%+v: %d, want %d", k, got[k], ns)
		}
	}
	if len(got) != len(want) {
		t.Errorf("the rows are %+v", got)
	}
	roots := map[string]int64{}
	for i, s := range b.Profile.Samples.Stack {
		root := ""
		b.Profile.Walk(s, func(f profile.FrameID) { root = b.Profile.FunctionName(b.Profile.Frames[f].Function) })
		roots[root] += b.Profile.Samples.Values[0][i]
	}
	if roots["[draw itself]"] != 500 || roots["[held up by goroutine 8, saver]"] != 500 {
		t.Errorf("the flame has %v", roots)
	}

	// Without lanes nothing is known.
	bare := *take.Profile
	bare.Intervals = profile.Intervals{}
	if _, err := BlameOf(&bare, lanes.New(&profile.Take{Profile: &bare}), "draw", n.Spans); !errors.Is(err, ErrNoLane) {
		t.Errorf("of nothing: %v", err)
	}
}

// TestDurations: percentiles, the histogram, and the rate are those of the spans, whatever these are.
func TestDurations(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 50 {
		n := &Name{Name: "x"}
		for range 1 + r.IntN(500) {
			from := r.Int64N(1000)
			n.Spans = append(n.Spans, Span{From: from, To: from + r.Int64N(1<<r.IntN(40))})
		}
		n = n.Of(func(Span) bool { return true })
		var all []int64
		for _, s := range n.Spans {
			all = append(all, s.Duration())
		}
		slices.Sort(all)
		for _, share := range []float64{0, 0.01, 0.5, 0.9, 0.99, 1} {
			p := n.Percentile(share)
			below := 0
			for _, d := range all {
				if d <= p {
					below++
				}
			}
			if float64(below) < share*float64(len(all)) || !slices.Contains(all, p) {
				t.Errorf("%v of %d: %d spans do not exceed %d", share, len(all), below, p)
			}
		}
		counted, last := 0, int64(-1)
		for i, b := range n.Histogram() {
			if i > 0 && b.From != last || b.To <= b.From {
				t.Errorf("bucket %d is from %d to %d, after %d", i, b.From, b.To, last)
			}
			last = b.To
			want := 0
			for _, d := range all {
				if d >= b.From && d < b.To {
					want++
				}
			}
			if b.Count != want {
				t.Errorf("from %d to %d are %d, want %d", b.From, b.To, b.Count, want)
			}
			counted += b.Count
		}
		if counted != len(all) {
			t.Errorf("the histogram has %d of %d", counted, len(all))
		}
		rated := 0
		for _, k := range n.Rate(0, 1<<50, 7) {
			rated += k
		}
		if rated != len(all) {
			t.Errorf("%d of %d ended", rated, len(all))
		}
		if some := n.Some(40); len(some) > 60 || !slices.ContainsFunc(some, func(s Span) bool { return s.Duration() == all[len(all)-1] }) {
			t.Errorf("%d of %d are drawn, the slowest not among them", len(some), len(all))
		}
	}
	if none := (&Name{}); none.Percentile(0.5) != 0 || none.Histogram() != nil || len(none.Slowest(0.1)) != 0 {
		t.Error("no spans have durations")
	}
}
