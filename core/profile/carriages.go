package profile

import (
	"cmp"
	"slices"
)

// Carriage is a stretch of time in which a thread carries a goroutine, in nanoseconds since the take
// began.
type Carriage struct {
	From, To int64
	Carrier  ThreadID
}

// CarriagesOf are those of each goroutine, in order. No two of one goroutine, and no two of one thread,
// are at the same time, whatever a file says.
func CarriagesOf(p *Profile) map[ThreadID][]Carriage {
	v := &p.Intervals
	type carried struct {
		Carriage
		of ThreadID
	}
	byCarrier := map[ThreadID][]carried{}
	l := &v.Ended
	for n, at := range l.Interval {
		if v.Kind[at] != IntervalCarried {
			continue
		}
		of, by := v.Thread[at], l.Thread[n]
		if by == NoThread || !p.Threads[of].Goroutine || p.Threads[by].Goroutine {
			continue
		}
		byCarrier[by] = append(byCarrier[by], carried{Carriage{v.Start[at], v.Start[at] + v.Duration[at], by}, of})
	}
	out := map[ThreadID][]Carriage{}
	for _, all := range byCarrier {
		slices.SortStableFunc(all, func(a, b carried) int { return cmp.Compare(a.From, b.From) })
		for i, c := range all {
			if i+1 < len(all) {
				c.To = min(c.To, all[i+1].From)
			}
			if c.To > c.From {
				out[c.of] = append(out[c.of], c.Carriage)
			}
		}
	}
	for _, all := range out {
		slices.SortFunc(all, func(a, b Carriage) int { return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.Carrier, b.Carrier)) })
		for i := 0; i+1 < len(all); i++ {
			all[i].To = min(all[i].To, all[i+1].From)
		}
	}
	return out
}
