package pairing

import (
	"entelon/core/profile"
	"entelon/resolve"
	"entelon/resolve/raw"
)

// doing are the parts of their work that goroutines are in, as their program says by labels. One goes on
// until the goroutine is given labels that name another part, or none, or ends. Labels that are given again
// with the same name, as by what is called within, go on with it.
type doing struct {
	of   map[whichRoutine]part
	lost int64 // parts for which there was no room
}

type whichRoutine struct {
	pid    uint32
	number uint64
}

type part struct {
	name  string
	begin uint64
}

// maxDoing bounds how many goroutines are followed in this at a time: some 8 MB.
const maxDoing = 1 << 16

// labelled takes the word that a goroutine has other labels.
func (d *doing) labelled(r *resolve.Resolver, rec *raw.Record) {
	k := whichRoutine{rec.PID, rec.Doing.Goroutine}
	was, is := d.of[k]
	if is && was.name == rec.Doing.Name {
		return
	}
	if is {
		delete(d.of, k)
		d.keep(r, k, was, rec.Time, false)
	}
	if rec.Doing.Name == "" {
		return
	}
	if len(d.of) >= maxDoing {
		d.lost++
		return
	}
	if d.of == nil {
		d.of = map[whichRoutine]part{}
	}
	d.of[k] = part{rec.Doing.Name, rec.Time}
}

func (d *doing) keep(r *resolve.Resolver, k whichRoutine, x part, end uint64, open bool) {
	begin := max(x.begin, r.Origin)
	if end < begin {
		return
	}
	p := r.Processes.Get(k.pid)
	r.KeepInterval(resolve.Passed{
		Seen: resolve.Seen{Of: p, Thread: r.Processes.Goroutine(p, k.number), Ready: true},
		Kind: profile.IntervalSpan, Mark: r.Builder.Mark(profile.Span, profile.SpanKey(x.name)), From: begin, To: end, Open: open,
	})
}

// finish keeps those that go on when the take ends.
func (d *doing) finish(r *resolve.Resolver, at uint64) {
	for k, x := range d.of {
		d.keep(r, k, x, at, true)
	}
	clear(d.of)
}
