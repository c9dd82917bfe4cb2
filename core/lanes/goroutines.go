package lanes

import "entelon/core/profile"

// carrying gives goroutines what the threads did that carried them.
type carrying struct {
	*Index
	sees func(*Lane, int64, int64)
}

// all gives goroutines their threads' waits, and their samples. No thread carries two at a time, so that
// all lanes together hold each wait twice at most.
func (x carrying) all(lanes []Lane) {
	pieces := profile.CarriagesOf(x.p)
	if len(pieces) == 0 {
		return
	}
	for id := range lanes {
		l := &lanes[id]
		if !x.p.Threads[id].Goroutine {
			continue
		}
		own, first := l.last-l.first, len(x.start)
		for i := l.first; i < l.last; i++ {
			x.copyWait(i, x.start[i], x.start[i]+x.length[i])
		}
		for _, p := range pieces[profile.ThreadID(id)] {
			x.sees(l, p.From, p.To)
			x.piece(l, &lanes[p.Carrier], p)
		}
		l.first, l.last = first, len(x.start)
		l.Waits = max(own, l.last-l.first)
		x.straighten(l)
		if n := l.last; n > l.first {
			x.sees(l, x.start[l.first], x.start[n-1]+x.length[n-1])
		}
	}
}

// piece adds what a thread did in a piece to a goroutine.
func (x carrying) piece(l, carrier *Lane, p profile.Carriage) {
	for i := x.from(carrier, p.From); i < carrier.last && x.start[i] < p.To; i++ {
		if from, to := max(x.start[i], p.From), min(x.start[i]+x.length[i], p.To); to > from {
			x.copyWait(i, from, to)
		}
	}
	first, last := x.seenIn(carrier, p.From, p.To)
	l.seen = append(l.seen, carrier.seen[first:last]...)
}

// copyWait adds a part of a wait at the end of the columns.
func (x carrying) copyWait(i int, from, to int64) {
	x.start, x.length = append(x.start, from), append(x.length, to-from)
	x.state, x.interval = append(x.state, x.state[i]), append(x.interval, x.interval[i])
}
