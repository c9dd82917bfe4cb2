package lanes_test

import (
	"errors"
	"math/rand/v2"
	"testing"

	"entelon/core/lanes"
	"entelon/core/profile"
)

// TestCriticalPath follows a wait to the thread that ended it, and that one's own wait to an
// interrupt.
func TestCriticalPath(t *testing.T) {
	x := lanes.New(made(
		wait{tid: 10, from: 2e9, to: 6e9, mark: profile.WaitLock, by: 11},
		wait{tid: 10, from: 6e9, to: 6.5e9, mark: profile.WaitProcessor},
		wait{tid: 11, from: 1e9, to: 5e9, mark: profile.WaitDisk, by: 1},
		wait{tid: 11, from: 5e9, to: 5.25e9, mark: profile.WaitProcessor},
	))
	a, b := x.LaneOf(0), x.LaneOf(1)
	want := []lanes.Step{
		{Lane: a, From: 0, To: 2e9, State: lanes.Running, Interval: -1},
		{Lane: b, From: 2e9, To: 5e9, State: lanes.Disk, Interval: 4, Depth: 1},
		{Lane: b, From: 5e9, To: 5.25e9, State: lanes.Ready, Interval: 5, Depth: 1},
		{Lane: b, From: 5.25e9, To: 6e9, State: lanes.Running, Interval: -1, Depth: 1},
		{Lane: a, From: 6e9, To: 6.5e9, State: lanes.Ready, Interval: 3},
		{Lane: a, From: 6.5e9, To: 8e9, State: lanes.Running, Interval: -1},
	}
	got, err := x.CriticalPath(a, 0, 8e9)
	if err != nil {
		t.Fatal(err)
	}
	if len(got) != len(want) {
		t.Fatalf("%d steps: %+v", len(got), got)
	}
	for i := range want {
		if got[i] != want[i] {
			t.Errorf("step %d: %+v, want %+v", i, got[i], want[i])
		}
	}
	blame := x.BlameOf(got)
	sum := int64(0)
	for _, k := range blame {
		sum += k.NS
	}
	if sum != 8e9 || blame[0].State != lanes.Running || blame[0].NS != 3.5e9 || blame[1].State != lanes.Disk {
		t.Errorf("%d ns: %+v", sum, blame)
	}
}

// TestCriticalPathAddsUp: whatever waits for whom, the steps have no gap, do not overlap, and are as
// long as what was asked for.
func TestCriticalPathAddsUp(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 6))
	for round := range 200 {
		var waits []wait
		for _, tid := range []uint32{10, 11} {
			for at := int64(0); at < 10e9; {
				from := at + int64(random.ExpFloat64()*3e8)
				at = from + int64(random.ExpFloat64()*5e8)
				waits = append(waits, wait{tid: tid, from: from, to: min(at, 10e9), mark: profile.WaitLock, by: []uint32{0, 1, 10, 11}[random.IntN(4)]})
			}
		}
		x := lanes.New(made(waits...))
		from := random.Int64N(9e9)
		to := from + 1 + random.Int64N(10e9-from)
		at := from
		steps, err := x.CriticalPath(0, from, to)
		if err != nil {
			t.Fatal(err)
		}
		for _, s := range steps {
			if s.From != at || s.To <= s.From {
				t.Fatalf("round %d: a step from %d to %d follows one that ended at %d", round, s.From, s.To, at)
			}
			at = s.To
		}
		if at != to {
			t.Fatalf("round %d: the path ends at %d, want %d", round, at, to)
		}
	}
}

// TestLongCriticalPath: a path of more steps than are kept is refused, and not cut short.
func TestLongCriticalPath(t *testing.T) {
	var waits []wait
	for i := range int64(lanes.MaxPathSteps/2 + 10) {
		waits = append(waits, wait{tid: 10, from: 2000 * i, to: 2000*i + 1000, mark: profile.WaitDisk, by: 1})
	}
	x := lanes.New(made(waits...))
	if steps, err := x.CriticalPath(x.LaneOf(0), 0, 10e9); !errors.Is(err, lanes.ErrLongPath) || steps != nil {
		t.Errorf("%d steps, %v", len(steps), err)
	}
	if steps, err := x.CriticalPath(x.LaneOf(0), 0, 1e6); err != nil || len(steps) != 1000 {
		t.Errorf("of a shorter stretch %d steps, %v", len(steps), err)
	}
}

// TestRunsAreSharedBySamples: what ran is shared among the functions that were sampled in it, and
// nothing of it is lost.
func TestRunsAreSharedBySamples(t *testing.T) {
	tk := made(wait{tid: 10, from: 5e9, to: 6e9, mark: profile.WaitDisk, by: 1})
	merged, err := profile.Merge(tk.Profile)
	if err != nil {
		t.Fatal(err)
	}
	tk.Profile = merged
	p := merged
	p.Functions = append(p.Functions, profile.Function{Kind: profile.KindOwn}, profile.Function{Kind: profile.KindOwn})
	first := profile.FunctionID(len(p.Functions) - 2)
	p.Frames = append(p.Frames, profile.Frame{Function: first}, profile.Frame{Function: first + 1})
	frame := profile.FrameID(len(p.Frames) - 2)
	p.Stacks.Parent, p.Stacks.Frame = append(p.Stacks.Parent, 0, 0), append(p.Stacks.Frame, frame, frame+1)
	stack := profile.StackID(p.Stacks.Len() - 2)
	for i, s := range []profile.StackID{stack, stack, stack + 1} {
		p.Samples.Time, p.Samples.Thread, p.Samples.Stack = append(p.Samples.Time, int64(i+1)*1e9), append(p.Samples.Thread, 0), append(p.Samples.Stack, s)
		p.Samples.Values[0] = append(p.Samples.Values[0], 1e6)
	}
	x := lanes.New(tk)
	steps, err := x.CriticalPath(x.LaneOf(0), 0, 5e9+1)
	if err != nil {
		t.Fatal(err)
	}
	blame := x.BlameOf(steps)
	got := map[profile.FunctionID]int64{}
	sum := int64(0)
	for _, k := range blame {
		got[k.Function] += k.NS
		sum += k.NS
	}
	if sum != 5e9+1 || got[first] < 3.3e9 || got[first] > 3.4e9 || got[first+1] < 1.6e9 || got[first+1] > 1.7e9 {
		t.Errorf("%d ns: %v", sum, got)
	}
}
