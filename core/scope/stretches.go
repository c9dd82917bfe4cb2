package scope

import (
	"cmp"
	"slices"
	"sort"

	"entelon/core/profile"
)

// stretch is a part of the time.
type stretch struct{ from, to int64 }

// within holds for what a thread did while an interval of its own went on that is chosen, and of a
// goroutine's in whichever thread carried it. closed also counts the moment at which it is over: what
// has no length is over when it begins.
func (s *subject) within(chosen func(i int) bool, closed bool) condition {
	if s.p.Samples.Time == nil {
		return s.always(false) // nothing is known of when it was
	}
	at := stretches(s.p, chosen)
	return s.bySample(func(i int) bool {
		of := at[s.p.Samples.Thread[i]]
		t := s.p.Samples.Time[i]
		n := sort.Search(len(of), func(k int) bool { return of[k].from > t })
		return n > 0 && (t < of[n-1].to || closed && t == of[n-1].to)
	})
}

// stretches are when chosen intervals go on, by thread, and by goroutine: in order, and none within
// another.
func stretches(p *profile.Profile, chosen func(i int) bool) map[profile.ThreadID][]stretch {
	v := &p.Intervals
	out := map[profile.ThreadID][]stretch{}
	for i := range v.Kind {
		if chosen(i) {
			out[v.Thread[i]] = append(out[v.Thread[i]], stretch{v.Start[i], v.Start[i] + v.Duration[i]})
		}
	}
	for id, of := range out {
		out[id] = merged(of)
	}
	for routine, carried := range profile.CarriagesOf(p) {
		of := out[routine]
		if len(of) == 0 {
			continue
		}
		for _, c := range carried {
			n := sort.Search(len(of), func(k int) bool { return of[k].to > c.From })
			for ; n < len(of) && of[n].from < c.To; n++ {
				out[c.Carrier] = append(out[c.Carrier], stretch{max(of[n].from, c.From), min(of[n].to, c.To)})
			}
		}
	}
	for id, of := range out {
		out[id] = merged(of)
	}
	return out
}

// merged puts stretches in order, those that meet into one.
func merged(of []stretch) []stretch {
	slices.SortFunc(of, func(a, b stretch) int { return cmp.Compare(a.from, b.from) })
	out := of[:0]
	for _, x := range of {
		if n := len(out); n > 0 && x.from <= out[n-1].to {
			out[n-1].to = max(out[n-1].to, x.to)
			continue
		}
		out = append(out, x)
	}
	return out
}
