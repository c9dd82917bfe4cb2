package pairing

import (
	"entelon/core/profile"
	"entelon/resolve"
	"entelon/resolve/raw"
)

// scheduled takes what came of a goroutine: a thread carried it, and it waited or was put aside.
func (ts *tallies) scheduled(rec *raw.Record) {
	x := rec.Routine
	c, r := ts.c, ts.c.resolver
	if !c.lives.keep || x.Wait.Class.Event < 0 || x.Wait.Class.Event >= len(c.events) {
		return
	}
	p := r.Processes.Get(rec.PID)
	end := x.Wait.End
	self := resolve.Seen{Of: p, Thread: r.Processes.Goroutine(p, x.Number), Ready: true}
	stopped := end
	switch {
	case x.Left != 0:
		stopped = x.Left
	case x.Wait.Begin != 0:
		stopped = x.Wait.Begin
	}
	if from := max(x.Carried, r.Origin); x.Carried != 0 && stopped > from {
		carrier := &resolve.Waker{Seen: resolve.Seen{Of: p, Thread: r.Processes.Thread(p, x.Carrier), Ready: true}}
		r.KeepInterval(resolve.Passed{Seen: self, Kind: profile.IntervalCarried, From: from, To: stopped, Ended: carrier})
	}
	ready := func(from uint64) {
		if from < end {
			r.KeepInterval(resolve.Passed{
				Seen: self, Mark: r.Mark(profile.WaitProcessor), Kind: profile.IntervalReady, From: from, To: end,
				Processor: int64(x.Wait.Processor), HasProcessor: !x.Wait.Open,
			})
		}
	}
	if x.Wait.Begin == 0 {
		if x.Left != 0 {
			ready(max(x.Left, r.Origin))
		}
		return
	}
	t := ts.class(x.Wait.Class)
	if !t.has {
		ts.unseen(t, x.Wait.Class)
	}
	if t.left {
		return
	}
	c.Counted.Intervals[c.events[x.Wait.Class.Event].Column]++
	seen := t.last
	seen.Thread = self.Thread
	begin := max(x.Wait.Begin, r.Origin)
	woken := end
	if x.Wait.Woken != 0 {
		woken = min(max(x.Wait.Woken, begin), end)
	}
	out := resolve.Passed{Seen: seen, Mark: resolve.MarkByStack, Kind: profile.IntervalWait, From: begin, To: woken}
	if x.Wait.HasWaker {
		if out.Ended = ts.wakerOf(&x.Wait); out.Ended == nil {
			out.Ended = &resolve.Waker{Seen: self, Interrupt: nil}
		}
		out.Ended.Thread = r.Processes.Goroutine(p, x.By)
	}
	r.KeepInterval(out)
	ready(woken)
}

// nameGoroutines names those that have no name after the function that they were begun with.
func nameGoroutines(r *resolve.Resolver) {
	p := r.Builder.Profile()
	for i, id := range p.Intervals.Thread {
		t := p.Threads[id]
		if !t.Goroutine || t.Name != 0 {
			continue
		}
		name, own := "", ""
		for s := p.Intervals.Stack[i]; s != 0; s = p.Stacks.Parent[s] {
			f := p.Frames[p.Stacks.Frame[s]].Function
			if n := p.FunctionName(f); p.Functions[f].Mark == profile.NoMark && n != "runtime.goexit" {
				name = n
				if p.Functions[f].Kind == profile.KindOwn {
					own = n
				}
			}
		}
		if own != "" { // what it was begun with may be of the library that begins goroutines
			name = own
		}
		if name != "" {
			r.Builder.NameThread(id, profile.Short(name))
		}
	}
}
