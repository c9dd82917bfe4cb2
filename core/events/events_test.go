package events_test

import (
	"errors"
	"strings"
	"testing"

	"entelon/core/events"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scope"
)

// press is a take of two threads: one samples processor time, both wait, and one writes to a disk.
func press(t *testing.T) *profile.Take {
	t.Helper()
	b := profile.NewBuilder()
	for _, name := range []string{"cpu", "waiting", "disk"} {
		m, err := measure.Parse(name)
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range m.Columns() {
			b.Column(c)
		}
	}
	own := b.Module(profile.Module{Path: b.Intern("/srv/bin/engraved"), Kind: profile.KindOwn})
	kernel := b.Module(profile.Module{Path: b.Intern("[kernel]"), Kind: profile.KindKernel})
	save := b.Frame(profile.Frame{Function: b.Function(profile.Function{Name: b.Intern("glyph.Save"), Module: own, Kind: profile.KindOwn, File: b.Intern("glyph/cache.go")}), Line: 88})
	inKernel := b.Frame(profile.Frame{Function: b.Function(profile.Function{Name: b.Intern("io_schedule"), Module: kernel, Kind: profile.KindKernel})})
	mark := func(m profile.Mark) profile.FrameID { return b.Mark(m, m.Key()) }
	p := b.Process(7)
	b.NameProcess(p, "engraved")
	saver, drawer := b.Thread(p, 7), b.Thread(p, 8)
	b.NameThread(saver, "saver")
	b.NameThread(drawer, "drawer")
	in := b.Push(0, save)
	disk := b.Push(b.Push(in, inKernel), mark(profile.WaitDisk))
	lock := b.Push(in, mark(profile.WaitLock))
	write := b.Push(in, mark(profile.DiskWrite))
	b.Sample(50, drawer, in, 10_000_000, 0, 0, 0)
	for i := range 99 {
		b.Sample(int64(1000*(i+1)), drawer, lock, 0, int64(100+i), 0, 0)
	}
	b.Sample(500, saver, disk, 0, 52_000_000, 0, 0)
	b.Sample(400, saver, write, 0, 0, 4096, 1)
	b.Sample(450, saver, write, 0, 0, 3*65536, 3)
	return &profile.Take{
		Profile:  b.Profile(),
		Settings: profile.Settings{Measures: []string{"cpu", "waiting", "disk"}},
		Facts:    profile.Facts{Counted: []profile.Counting{{Measure: "waiting", Events: 100, Singly: 100}, {Measure: "disk", Events: 4, Singly: 2, Lost: 1}}},
	}
}

func TestKinds(t *testing.T) {
	tk := press(t)
	kinds := events.KindsOf(tk)
	if len(kinds) != 2 || kinds[0].Name != "waiting" || kinds[1].Name != "disk" {
		t.Fatalf("%+v", kinds)
	}
	w, d := kinds[0], kinds[1]
	if w.Unit != measure.Nanoseconds || w.Label != "waits" || w.Thinned() || w.Time != measure.Beginning {
		t.Errorf("%+v", w)
	}
	if d.Unit != measure.Bytes || d.Label != "requests to disks" || !d.Thinned() || d.Lost != 1 {
		t.Errorf("%+v", d)
	}
	if k, err := events.Named(kinds, ""); err != nil || k.Name != "waiting" {
		t.Errorf("the first: %v, %v", k.Name, err)
	}
	var unknown *events.UnknownKind
	if _, err := events.Named(kinds, "sneezes"); !errors.As(err, &unknown) || !strings.Contains(err.Error(), "waiting, disk") {
		t.Error(err)
	}
	if _, err := events.Named(nil, ""); !errors.Is(err, events.ErrNone) {
		t.Error(err)
	}
	tk.Facts.Exact = &profile.Exact{}
	if len(events.KindsOf(tk)) != 0 {
		t.Error("an exact run recorded nothing one by one")
	}
}

func TestFind(t *testing.T) {
	tk := press(t)
	p := tk.Profile
	kinds := events.KindsOf(tk)
	f := events.Find(p, events.Question{Kind: kinds[0], Scope: scope.Scope{}, By: events.ByAmount, Limit: 2})
	if len(f.Rows) != 2 || f.All != 100 || f.Events != 100 || f.Total != 52_000_000+99*100+98*99/2 {
		t.Fatalf("%+v", f)
	}
	if r := f.Rows[0]; r.Amount != 52_000_000 || r.Time != 500 || p.Threads[r.Thread].TID != 7 || p.Functions[r.What].Mark != profile.WaitDisk {
		t.Errorf("%+v", r)
	}
	// Of 100 amounts 100, 101, … 198 and a large one, the ranks 50, 90, 99 and 100.
	if f.Median != 149 || f.Ninety != 189 || f.Almost != 198 || f.Largest != 52_000_000 {
		t.Errorf("%d, %d, %d, %d", f.Median, f.Ninety, f.Almost, f.Largest)
	}
	if f := events.Find(p, events.Question{Kind: kinds[0], Scope: scope.Scope{}, By: events.ByTime, Limit: 0}); len(f.Rows) != 100 || f.Rows[0].Time != 500 || f.Rows[1].Time != 1000 || f.Rows[99].Time != 99000 {
		t.Errorf("by time: %+v", f.Rows[:2])
	}
	sc, err := scope.Parse("thread is drawer")
	if err != nil {
		t.Fatal(err)
	}
	if f := events.Find(p, events.Question{Kind: kinds[0], Scope: sc, By: events.ByAmount, Limit: 0}); f.All != 99 || f.Largest != 198 {
		t.Errorf("in a scope: %d rows, %d", f.All, f.Largest)
	}
	f = events.Find(p, events.Question{Kind: kinds[1], Scope: scope.Scope{}, By: events.ByAmount, Limit: 0})
	if f.All != 2 || f.Events != 4 || f.Rows[0].Events != 3 || f.Rows[0].Amount != 3*65536 {
		t.Errorf("rows that stand for several: %+v", f)
	}
	// As the page narrows a scope by a step.
	if sc, err = scope.Parse("disk-bytes at least 4096 B and disk-bytes under 8192 B"); err != nil {
		t.Fatal(err)
	}
	if f := events.Find(p, events.Question{Kind: kinds[1], Scope: sc, By: events.ByAmount}); f.All != 1 || f.Largest != 4096 {
		t.Errorf("in a step: %+v", f)
	}
	if sc, err = scope.Parse("thread is nobody"); err != nil {
		t.Fatal(err)
	}
	if f := events.Find(p, events.Question{Kind: kinds[0], Scope: sc, By: events.ByAmount, Limit: 5}); f.All != 0 || len(f.Rows) != 0 || f.Largest != 0 {
		t.Errorf("an empty scope: %+v", f)
	}
}

// TestSizes: each amount is in the step that holds it, and steps follow each other.
func TestSizes(t *testing.T) {
	tk := press(t)
	kinds := events.KindsOf(tk)
	f := events.Find(tk.Profile, events.Question{Kind: kinds[0], By: events.ByTime, Limit: 1, From: 0, To: 100_000, Bins: 10})
	if first, last := f.Sizes[0], f.Sizes[len(f.Sizes)-1]; first != (events.Size{From: 100, To: 200, Rows: 99}) || last != (events.Size{From: 50_000_000, To: 100_000_000, Rows: 1}) {
		t.Errorf("%+v to %+v", first, last)
	}
	rows := int64(0)
	for i, s := range f.Sizes {
		if rows += s.Rows; i > 0 && f.Sizes[i-1].To != s.From {
			t.Errorf("a gap before %d", s.From)
		}
	}
	if rows != f.All {
		t.Errorf("%d of %d rows", rows, f.All)
	}
	if f.Over[0] != 10 || f.Over[5] != 10 || f.Over[9] != 10 || len(f.Over) != 10 { // the long one is at 500 ns
		t.Errorf("over time: %v", f.Over)
	}
	tk.Profile.Samples.Time[1] = 1 << 62
	if f := events.Find(tk.Profile, events.Question{Kind: kinds[0], By: events.ByTime, Limit: 1, To: 1, Bins: 2000}); f.Over[1999] != 100 {
		t.Errorf("far behind the end: %d", f.Over[1999])
	}
	f = events.Find(tk.Profile, events.Question{Kind: kinds[1], By: events.ByAmount})
	if f.Sizes[0] != (events.Size{From: 4096, To: 8192, Rows: 1}) || len(f.Over) != 0 {
		t.Errorf("bytes: %+v, %v", f.Sizes, f.Over)
	}
	tk.Profile.Samples.Values[1][0], tk.Profile.Samples.Values[1][1] = 1<<63-1, 0
	if f = events.Find(tk.Profile, events.Question{Kind: kinds[0], By: events.ByAmount}); f.Sizes[len(f.Sizes)-1].Rows != 1 || f.Largest != 1<<63-1 {
		t.Errorf("the largest number: %+v", f.Sizes[len(f.Sizes)-1])
	}
}

func TestPlace(t *testing.T) {
	tk := press(t)
	p := tk.Profile
	f := events.Find(p, events.Question{Kind: events.KindsOf(tk)[0], Scope: scope.Scope{}, By: events.ByAmount, Limit: 1})
	at, ok := events.Place(p, f.Rows[0].Stack)
	if !ok || p.FunctionName(p.Frames[at].Function) != "glyph.Save" || p.Frames[at].Line != 88 {
		t.Errorf("%v, %+v", ok, p.Frames[at])
	}
	if _, ok := events.Place(p, 0); ok {
		t.Error("an empty stack is nowhere")
	}
}
