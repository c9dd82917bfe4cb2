package lanes_test

import (
	"math/rand/v2"
	"testing"

	"entelon/core/lanes"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scope"
)

// wait is one to be built.
type wait struct {
	tid        uint32
	from, to   int64
	mark       profile.Mark // WaitProcessor: ready
	by         uint32       // thread that ended it; 0: nobody, 1: an interrupt
	unfinished bool
}

// made is a take of ten seconds in which threads 10 and 11 are there, with these waits.
func made(waits ...wait) *profile.Take {
	b := profile.NewBuilder()
	b.Column(measure.Column{Name: "cpu", Unit: measure.Nanoseconds, Time: measure.End})
	pid := b.Process(10)
	b.NameProcess(pid, "engraved")
	threads := map[uint32]profile.ThreadID{}
	for _, tid := range []uint32{10, 11} {
		threads[tid] = b.Thread(pid, tid)
		b.Interval(profile.Interval{Duration: 10e9, Thread: threads[tid], Kind: profile.IntervalAlive})
	}
	for _, w := range waits {
		i := profile.Interval{Start: w.from, Duration: w.to - w.from, Thread: threads[w.tid], Kind: profile.IntervalWait, Stack: b.Push(0, b.Mark(w.mark, w.mark.Key()))}
		if w.mark == profile.WaitProcessor {
			i.Kind = profile.IntervalReady
		}
		if w.by != 0 {
			i.Ended, i.By = true, profile.NoThread
			if w.by > 1 {
				i.By = threads[w.by]
			}
		}
		b.Interval(i)
	}
	return &profile.Take{Settings: profile.Settings{RateHz: 1000}, Facts: profile.Facts{DurationNS: 10e9}, Profile: b.Profile()}
}

func TestRowShowsEachStateWhereThereIsRoom(t *testing.T) {
	x := lanes.New(made(
		wait{tid: 10, from: 2e9, to: 3e9, mark: profile.WaitLock, by: 11},
		wait{tid: 10, from: 3e9, to: 3.5e9, mark: profile.WaitProcessor},
		wait{tid: 11, from: 1e9, to: 9e9, mark: profile.WaitDisk, by: 1},
	))
	if len(x.Lanes) != 2 || !x.Measured {
		t.Fatalf("%d lanes, measured: %v", len(x.Lanes), x.Measured)
	}
	if tid := x.Lanes[0].Thread; tid != 0 {
		t.Errorf("thread %d ran longest", tid)
	}
	type part struct {
		from, to int64
		state    lanes.State
	}
	want := []part{{0, 2e9, lanes.Running}, {2e9, 3e9, lanes.Lock}, {3e9, 3.5e9, lanes.Ready}, {3.5e9, 10e9, lanes.Running}}
	got := x.Row(0, 0, 10e9, 1000)
	if len(got) != len(want) {
		t.Fatalf("%d runs: %+v", len(got), got)
	}
	for i, w := range want {
		if g := got[i]; g.From != w.from || g.To != w.to || g.State != w.state || g.Count != 1 {
			t.Errorf("run %d: %+v, want %+v", i, g, w)
		}
	}
	if l := x.Longest(0, 2.2e9, 8e9, 5); len(l) != 1 || l[0].From != 2.2e9 || l[0].To != 3e9 {
		t.Errorf("the longest waits: %+v", l)
	}
	at, ok := x.At(0, 2.5e9)
	if !ok || at.State != lanes.Lock || !at.Ended || at.By != 1 || at.Previous != 0 || at.Next != 3e9 {
		t.Errorf("at 2.5 s: %+v", at)
	}
	at, ok = x.At(1, 5e9)
	if !ok || at.State != lanes.Disk || at.By != profile.NoThread || at.Previous != 0 || at.Next != 9e9 {
		t.Errorf("at 5 s: %+v", at)
	}
	at, ok = x.At(0, 9e9)
	if !ok || at.State != lanes.Running || at.From != 3.5e9 || at.Next != -1 || at.Previous != 3e9 {
		t.Errorf("at 9 s: %+v", at)
	}
	if _, ok := x.At(0, 10e9); ok {
		t.Error("a thread is there after its end")
	}
}

// TestRowAddsUp: at every zoom, what is drawn is as long as what was measured, in each state, and no
// more parts are drawn than there is room for.
func TestRowAddsUp(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	marks := []profile.Mark{profile.WaitLock, profile.WaitDisk, profile.WaitSleep, profile.WaitProcessor}
	var waits []wait
	for at := int64(0); at < 10e9; {
		from := at + int64(random.ExpFloat64()*200_000)
		at = from + int64(random.ExpFloat64()*float64([]int{1000, 50_000, 5_000_000}[random.IntN(3)]))
		if at < 10e9 {
			waits = append(waits, wait{tid: 10, from: from, to: at, mark: marks[random.IntN(len(marks))]})
		}
	}
	random.Shuffle(len(waits), func(i, j int) { waits[i], waits[j] = waits[j], waits[i] })
	x := lanes.New(made(waits...))
	lane := x.LaneOf(0)
	for _, view := range [][2]int64{{0, 10e9}, {1e9, 2e9}, {4_000_000_000, 4_001_000_000}, {9.9e9, 12e9}} {
		var want [lanes.States]int64
		here := min(view[1], 10e9) - view[0]
		for _, w := range waits {
			if d := min(w.to, view[1]) - max(w.from, view[0]); d > 0 {
				s := map[profile.Mark]lanes.State{profile.WaitLock: lanes.Lock, profile.WaitDisk: lanes.Disk, profile.WaitSleep: lanes.Timer, profile.WaitProcessor: lanes.Ready}[w.mark]
				want[s] += d
				here -= d
			}
		}
		want[lanes.Running] = here
		for _, parts := range []int{1, 7, 300, 1200} {
			var got [lanes.States]int64
			rows := x.Row(lane, view[0], view[1], parts)
			at := view[0]
			for _, r := range rows {
				if r.From != at {
					t.Fatalf("%v in %d parts: a run begins at %d where the one before ended at %d", view, parts, r.From, at)
				}
				at = r.To
				if r.Count == 1 {
					got[r.State] += r.To - r.From
					continue
				}
				for s, d := range r.Spent {
					got[s] += d
				}
			}
			if spent := x.Spent(lane, view[0], view[1]); spent != want {
				t.Errorf("%v: %v, want %v", view, spent, want)
			}
			if got != want {
				t.Errorf("%v in %d parts: %v, want %v", view, parts, got, want)
			}
			if len(rows) > 2*parts+2 {
				t.Errorf("%v in %d parts: %d runs", view, parts, len(rows))
			}
		}
	}
}

// TestStatesAreThoseOfScopes: a state has the name by which a scope chooses it.
func TestStatesAreThoseOfScopes(t *testing.T) {
	for s := lanes.Running; s < lanes.States; s++ {
		if _, err := scope.Parse("state is " + s.String()); err != nil || s.Words() == "" {
			t.Errorf("%s: %q, %v", s, s.Words(), err)
		}
	}
	tk := made(wait{tid: 10, from: 1e9, to: 2e9, mark: profile.WaitLock}, wait{tid: 11, from: 1e9, to: 2e9, mark: profile.WaitProcessor})
	for text, want := range map[string]int{"state is lock": 1, "state is ready": 1, "state is lock, ready": 2, "state is disk": 0, "not state is lock": 1} {
		sc, err := scope.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		if got := lanes.New(tk).InScope(sc); len(got) != want && text != "not state is lock" || text == "not state is lock" && len(got) != 2 {
			t.Errorf("%s: lanes %v, want %d", text, got, want)
		}
	}
}

// TestBarsAreBounded: however many samples there are, and however they change, there are no more bars
// than can be drawn, and no sample is missing in them.
func TestBarsAreBounded(t *testing.T) {
	b := profile.NewBuilder()
	b.Column(measure.Column{Name: "cpu", Unit: measure.Nanoseconds, Time: measure.End})
	thread := b.Thread(b.Process(10), 10)
	const samples, depth, parts = 50_000, 20, 100
	for i := range samples {
		stack := profile.StackID(0)
		for d := range depth {
			name := string(rune('a'+i%2)) + string(rune('a'+d)) // another function each time, at every depth
			stack = b.Push(stack, b.Frame(profile.Frame{Function: b.Function(profile.Function{Name: b.Intern(name), Kind: profile.KindOwn})}))
		}
		b.Sample(int64(i+1)*1e6, thread, stack, 1e6)
	}
	x := lanes.New(&profile.Take{Settings: profile.Settings{RateHz: 1000}, Facts: profile.Facts{DurationNS: samples * 1e6}, Profile: b.Profile()})
	bars := x.Bars(0, 0, samples*1e6+1, parts, nil)
	seen := 0
	for _, bar := range bars {
		seen += bar.Samples
	}
	if len(bars) > 2*depth*parts || seen != samples*depth {
		t.Errorf("%d bars with %d samples, want at most %d with %d", len(bars), seen, 2*depth*parts, samples*depth)
	}
}

// TestThreadsWithoutANumber: samples of ending threads, which the kernel does not tell apart, are no
// lane.
func TestThreadsWithoutANumber(t *testing.T) {
	tk := made(wait{tid: 10, from: 1e9, to: 2e9, mark: profile.WaitLock})
	p := tk.Profile
	p.Threads = append(p.Threads, profile.Thread{TID: 1<<32 - 1})
	p.Samples.Time, p.Samples.Thread, p.Samples.Stack = append(p.Samples.Time, 3e9), append(p.Samples.Thread, 2), append(p.Samples.Stack, 0)
	p.Samples.Values[0] = append(p.Samples.Values[0], 1e6)
	if x := lanes.New(tk); len(x.Lanes) != 2 || x.LaneOf(2) != -1 {
		t.Errorf("%d lanes, one at %d", len(x.Lanes), x.LaneOf(2))
	}
}

func TestWaitsThatCannotBe(t *testing.T) {
	x := lanes.New(made(
		wait{tid: 10, from: 2e9, to: 8e9, mark: profile.WaitLock},
		wait{tid: 10, from: 3e9, to: 4e9, mark: profile.WaitDisk},
		wait{tid: 10, from: 3e9, to: 11e9, mark: profile.WaitDisk},
	))
	at := int64(0)
	for _, r := range x.Row(x.LaneOf(0), 0, 20e9, 100) {
		if r.From < at || r.To < r.From {
			t.Errorf("%+v begins before %d", r, at)
		}
		at = r.To
	}
}

// TestBars: a function is a bar from the first of its samples to the last, with a break where there
// was a pause, and says how many samples it rests on.
func TestBars(t *testing.T) {
	b := profile.NewBuilder()
	b.Column(measure.Column{Name: "cpu", Unit: measure.Nanoseconds, Time: measure.End})
	pid := b.Process(10)
	thread := b.Thread(pid, 10)
	frame := func(name string) profile.FrameID {
		return b.Frame(profile.Frame{Function: b.Function(profile.Function{Name: b.Intern(name), Kind: profile.KindOwn})})
	}
	root := b.Push(0, frame("main"))
	slur, beam := b.Push(root, frame("slur.Route")), b.Push(root, frame("beam.Group"))
	for _, s := range []struct {
		ms    int64
		stack profile.StackID
	}{{1, slur}, {2, slur}, {3, beam}, {4, slur}, {20, slur}} {
		b.Sample(s.ms*1e6, thread, s.stack, 1e6)
	}
	x := lanes.New(&profile.Take{Settings: profile.Settings{RateHz: 1000}, Facts: profile.Facts{DurationNS: 30e6}, Profile: b.Profile()})
	if x.Measured || len(x.Lanes) != 1 {
		t.Fatalf("measured: %v, %d lanes", x.Measured, len(x.Lanes))
	}
	p := b.Profile()
	got := map[string]int{}
	for _, bar := range x.Bars(0, 0, 30e6, 30_000, nil) {
		got[p.FunctionName(bar.Function)] += bar.Samples
		if bar.Depth == 0 && bar.From == 0 && bar.To != 4e6 || bar.To-bar.From > 4e6 {
			t.Errorf("%+v goes over a pause", bar)
		}
	}
	if got["main"] != 5 || got["slur.Route"] != 4 || got["beam.Group"] != 1 {
		t.Errorf("samples of bars: %v", got)
	}
	coarse := x.Bars(0, 0, 30e6, 3, nil)
	samples := 0
	for _, bar := range coarse {
		if bar.Depth == 1 {
			samples += bar.Samples
		}
	}
	if samples != 5 || len(coarse) > 4 {
		t.Errorf("gathered, %d samples in %d bars", samples, len(coarse))
	}
	if bars := x.Bars(0, 0, 30e6, 30, func(i int) bool { return p.Samples.Stack[i] == beam }); len(bars) != 2 {
		t.Errorf("of a choice of samples: %+v", bars)
	}
}
