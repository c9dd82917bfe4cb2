package spans

import (
	"errors"
	"math"
	"math/rand/v2"
	"testing"

	"entelon/core/lanes"
	"entelon/core/measure"
	"entelon/core/profile"
)

// drawn is a take of spans of one thread that run and wait for input; of the slow ones, which slow says, also for
// a lock that saver holds.
func drawn(r *rand.Rand, spans int, slow func(i int) bool) *profile.Take {
	b := profile.NewBuilder()
	b.Column(measure.Column{Name: "cpu", Unit: measure.Nanoseconds})
	process := b.Process(1)
	draw, saver := b.Thread(process, 10), b.Thread(process, 11)
	b.NameThread(saver, "saver")
	own := b.Module(profile.Module{Path: b.Intern("/srv/engraved"), Kind: profile.KindOwn})
	at := func(name string, m profile.Mark) profile.StackID {
		s := b.Push(0, b.Frame(profile.Frame{Function: b.Function(profile.Function{Name: b.Intern(name), Module: own, Kind: profile.KindOwn}), Line: 7}))
		return b.Push(s, b.Mark(m, m.Key()))
	}
	span := b.Push(0, b.Mark(profile.Span, profile.SpanKey("draw")))
	now := int64(0)
	for i := range spans {
		begin := now
		now += 20_000 + r.Int64N(10_000)
		b.Interval(profile.Interval{Start: now, Duration: 30_000 + r.Int64N(20_000), Thread: draw, Kind: profile.IntervalWait, Stack: at("page.read", profile.WaitInput)})
		now += 50_000
		if slow(i) {
			b.Interval(profile.Interval{Start: now, Duration: 400_000, Thread: draw, Kind: profile.IntervalWait, Stack: at("glyph.Outline", profile.WaitLock), Ended: true, By: saver})
			b.Interval(profile.Interval{Start: now + 10_000, Duration: 380_000, Thread: saver, Kind: profile.IntervalWait, Stack: at("glyph.write", profile.WaitDisk)})
			now += 400_000
		}
		now += r.Int64N(10_000)
		b.Interval(profile.Interval{Start: begin, Duration: now - begin, Thread: draw, Kind: profile.IntervalSpan, Stack: span})
		now += 1000
	}
	for _, id := range []profile.ThreadID{draw, saver} {
		b.Interval(profile.Interval{Start: 0, Duration: now, Thread: id, Kind: profile.IntervalAlive})
	}
	return &profile.Take{Profile: b.Profile(), Facts: profile.Facts{DurationNS: now}}
}

// TestContrast: what slow spans do that others do not is found and sized, and is significant only where it should be; all rows add up.
func TestContrast(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	take := drawn(r, 400, func(i int) bool { return i%80 == 7 })
	x, l := New(take.Profile), lanes.New(take)
	slow, others := x.Find("draw").Parted(0.0125, 0)
	if len(slow) != 5 || len(others) != 395 {
		t.Fatalf("%d slow spans, %d others", len(slow), len(others))
	}
	c, err := ContrastOf(take.Profile, l, slow, others)
	if err != nil {
		t.Fatal(err)
	}
	sum := 0.0
	for i := range c.Rows {
		sum += c.Rows[i].Difference()
	}
	if math.Abs(sum-(c.SlowMean-c.OthersMean)) > 1 || c.Slow != 5 || c.Others != 395 {
		t.Errorf("the rows add up to %v, the means differ by %v; %d against %d", sum, c.SlowMean-c.OthersMean, c.Slow, c.Others)
	}
	first := c.Rows[0]
	if first.Who != "saver" || first.State != lanes.Disk || take.Profile.FunctionName(first.Function) != "glyph.write" || first.Line != 7 || !first.Significant {
		t.Errorf("the first row is %+v", first)
	}
	if first.Difference() != 380_000 || first.Low > 380_000 || first.High < 380_000 {
		t.Errorf("it is %v more, between %v and %v", first.Difference(), first.Low, first.High)
	}
	for _, row := range c.Rows {
		if row.Who == "" && row.State == lanes.Input && row.Significant {
			t.Errorf("reading, which all do alike, is said to differ: %+v", row)
		}
	}

	// With one slow span nothing is significant; without others, or lanes, there is nothing to compare.
	if one, err := ContrastOf(take.Profile, l, slow[:1], others); err != nil || one.Rows[0].Significant || !math.IsInf(one.Rows[0].High, 1) {
		t.Errorf("of one span: %v, %+v", err, one.Rows[0])
	}
	if _, err := ContrastOf(take.Profile, l, slow, nil); !errors.Is(err, ErrNoLane) {
		t.Errorf("without others: %v", err)
	}
	if long, rest := x.Find("draw").Parted(0, 300_000); len(long) != 5 || len(rest) != 395 {
		t.Errorf("%d spans took long, %d others", len(long), len(rest))
	}
}

// TestContrastOfNothing: where the slow ones differ by nothing but chance, seldom more than the stated
// rate of comparisons says otherwise. Which spans are compared is drawn, and not chosen by how slow they are.
func TestContrastOfNothing(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	const rounds = 200
	wrong := 0
	for range rounds {
		take := drawn(r, 60, func(int) bool { return false })
		n := New(take.Profile).Find("draw")
		c, err := ContrastOf(take.Profile, lanes.New(take), n.Spans[:12], n.Spans[12:])
		if err != nil {
			t.Fatal(err)
		}
		for _, row := range c.Rows {
			if row.Significant {
				wrong++
				break
			}
		}
	}
	// 5 % of 200, and three standard deviations more.
	if most := 10 + 3*3.1; float64(wrong) > most {
		t.Errorf("%d of %d comparisons of like with like found a difference", wrong, rounds)
	}
}
