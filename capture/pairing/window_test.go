package pairing

import (
	"fmt"
	"testing"

	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/resolve/raw"
	"entelon/resolve/replay"
)

// aliveWorld has all threads alive.
type aliveWorld struct{ *replay.World }

func (aliveWorld) ThreadName(uint32, uint32) string { return "engraver" }

// TestWindowsPartWhatGoesOn: a wait and a call that go on over the end of a window count
// in both with their part of the time, and as one.
func TestWindowsPartWhatGoesOn(t *testing.T) {
	c := consumerIn(t, aliveWorld{replay.NewWorld(nil)}, measure.Waiting, measure.Syscalls)
	c.resolver.Origin = 1000
	const self = 7
	p := c.resolver.Processes.Get(self)
	seen := func(name string) (x wait) {
		x.Of, x.Thread, x.Ready = p, c.resolver.Processes.Thread(p, self), true
		x.Stack = c.resolver.Builder.Push(0, c.resolver.Builder.Mark(profile.MarkOther, name))
		return x
	}
	sleeping := seen("nap")
	sleeping.begin, sleeping.reason = 2000, profile.WaitSleep
	c.Waits.open[self] = &sleeping
	reading := seen("read")
	c.syscalls.open[self] = systemCall{Seen: reading.Seen, column: 1, begin: 2500, mark: c.syscalls.mark(0)}

	first := c.turn(4000)
	c.Waits.woke(self, 5000)
	second := c.turn(6000)
	c.Waits.switched(&raw.Record{Kind: raw.SwitchedIn, PID: self, TID: self, Time: 6500})
	c.syscalls.gone(self, 7000)
	third := c.turn(8000)
	for i, x := range []struct {
		w    Window
		want string
	}{
		{first, "[nap]/[sleeps] 2000 0 0, [read]/[system call read] 0 1500 0"},
		{second, "[nap]/[sleeps] 1000 0 0, [nap]/[waits for a processor] 1000 0 0, [read]/[system call read] 0 2000 0"},
		{third, "[nap]/[waits for a processor] 500 0 0, [read]/[system call read] 0 1000 1"},
	} {
		p := x.w.Profile
		var got string
		for s, stack := range p.Samples.Stack {
			if s > 0 {
				got += ", "
			}
			parent := p.Stacks.Parent[stack]
			got += fmt.Sprintf("%s/%s %d %d %d", p.FunctionName(p.FunctionOf(parent)), p.FunctionName(p.FunctionOf(stack)), p.Samples.Values[0][s], p.Samples.Values[1][s], p.Samples.Values[2][s])
		}
		if got != x.want || p.Check() != nil {
			t.Errorf("window %d: %s, want %s (%v)", i+1, got, x.want, p.Check())
		}
	}
	if second.Begin != 3000 || second.End != 5000 || second.Facts.DurationNS != 2000 || second.Facts.Samples != 3 {
		t.Errorf("the second window is from %d to %d with %d samples", second.Begin, second.End, second.Facts.Samples)
	}
}

// TestAWindowEndsWhereRecordsHaveCome: a wait that ends just before its window is over, but
// whose record comes later than that, is not counted beyond its end.
func TestAWindowEndsWhereRecordsHaveCome(t *testing.T) {
	c := consumerIn(t, aliveWorld{replay.NewWorld(nil)}, measure.Waiting)
	c.resolver.Origin = 1000
	var windows []Window
	c.Every, c.Window = 500, func(w Window) error { windows = append(windows, w); return nil }
	p := c.resolver.Processes.Get(7)
	w := wait{begin: 1500, reason: profile.WaitSleep}
	w.Of, w.Thread, w.Ready, w.Stack = p, c.resolver.Processes.Thread(p, 7), true, c.resolver.Builder.Push(0, c.resolver.Mark(profile.WaitSleep))
	c.Waits.open[7] = &w
	turn := func() {
		t.Helper()
		if err := c.turnIfDue(c.latest, false); err != nil {
			t.Fatal(err)
		}
	}
	c.Visit(&raw.Record{Kind: raw.Throttled, Time: 1400})
	turn() // not long enough yet
	c.Visit(&raw.Record{Kind: raw.Throttled, Time: 1700})
	turn()
	c.Visit(&raw.Record{Kind: raw.SwitchedIn, PID: 7, TID: 7, Time: 1800})
	c.Visit(&raw.Record{Kind: raw.Throttled, Time: 2300})
	turn()
	var waited int64
	for _, x := range windows {
		waited += x.Profile.Total(0)
	}
	if len(windows) != 2 || waited != 300 || windows[0].End != 700 || windows[1].End != 1300 {
		t.Errorf("%d windows with %d of 300 waited: %+v", len(windows), waited, windows)
	}
}
