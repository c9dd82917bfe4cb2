package spans

import (
	"cmp"
	"math"
	"slices"
)

// Clock is by what some of the spans were told, where it is another one than the take's.
type Clock struct {
	Service string
	Host    string
	PID     uint32
	// AheadNS is by how much it was ahead of the take's when the first of its spans began, below 0 by how
	// much it was behind; since then it gained Drift nanoseconds a nanosecond.
	AheadNS int64
	Drift   float64
	// WithinNS is how far from the truth its spans can be at most once they are moved; 0: that is not
	// known, since nothing says how long they were on their way.
	WithinNS int64
	Spans    int
}

// Bounds of what is made of clocks.
const (
	maxClocks = 1000
	steepest  = 500e-6 // that a clock gains: no faster does a system change its own to make it right
	clockSlop = 1000   // nanoseconds: what two readings of one clock can differ by
)

// clockOf is what spans have in common that are told by one clock.
type clockOf struct {
	service, host string
	pid           uint32
}

func (s *Told) clock() clockOf { return clockOf{s.Service, s.Host, s.PID} }

// bound is what is known of how far a clock is ahead at a time of its own.
type bound struct {
	at    int64
	ahead float64
}

// Align finds the clocks that cannot be the take's, and moves their spans to where they were by the take's.
// A span cannot have ended after it arrived, and none can have begun before the one that it goes on from
// or is a part of, if that was told by a clock that may be the take's. Between the two lies how far a
// clock is ahead. It may gain, by a steady rate.
func Align(told []Told) []Clock {
	byID := make(map[string]int, len(told))
	of := map[clockOf][]int{}
	for i := range told {
		s := &told[i]
		if s.ID != "" {
			byID[s.ID] = i
		}
		k := s.clock()
		if _, known := of[k]; known || len(of) < maxClocks {
			of[k] = append(of[k], i)
		}
	}
	keys := make([]clockOf, 0, len(of))
	for k := range of {
		keys = append(keys, k)
	}
	slices.SortFunc(keys, func(a, b clockOf) int {
		return cmp.Or(cmp.Compare(a.service, b.service), cmp.Compare(a.host, b.host), cmp.Compare(a.pid, b.pid))
	})
	// First those that are ahead by what arrived alone: nobody's spans are held against theirs.
	ahead := map[clockOf]bool{}
	least := map[clockOf][]bound{}
	for _, k := range keys {
		for _, i := range of[k] {
			if s := &told[i]; s.Arrived != 0 && s.End != 0 && s.End >= s.Begin {
				least[k] = append(least[k], bound{s.End, float64(s.End - s.Arrived)})
				ahead[k] = ahead[k] || s.End-s.Arrived > clockSlop
			}
		}
	}
	// What goes on from a span, by a clock that may be right, began after it.
	after := func(s *Told, id string) {
		if at, known := byID[id]; known && id != "" && !ahead[s.clock()] && told[at].clock() != s.clock() {
			k := told[at].clock()
			least[k] = append(least[k], bound{told[at].Begin, float64(told[at].Begin - s.Begin)})
		}
	}
	for i := range told {
		after(&told[i], told[i].Parent)
		for _, id := range told[i].Links {
			after(&told[i], id)
		}
	}
	var out []Clock
	for _, k := range keys {
		most := mostAhead(told, of[k], byID, func(i int) bool {
			other := told[i].clock()
			return other != k && !ahead[other]
		})
		behind := slices.ContainsFunc(most, func(b bound) bool { return b.ahead < -clockSlop })
		if len(least[k]) == 0 || !ahead[k] && !behind {
			continue
		}
		c := Clock{Service: k.service, Host: k.host, PID: k.pid, Spans: len(of[k])}
		first, last := told[of[k][0]].Begin, told[of[k][0]].Begin
		for _, i := range of[k] {
			first, last = min(first, told[i].Begin), max(last, told[i].Begin, told[i].End)
		}
		at, drift, within := between(least[k], most, first, float64(last-first))
		c.AheadNS, c.Drift, c.WithinNS = int64(math.Round(at)), drift, int64(math.Ceil(within))
		for _, i := range of[k] {
			told[i].Begin -= int64(math.Round(at + drift*float64(told[i].Begin-first)))
			if told[i].End != 0 {
				told[i].End -= int64(math.Round(at + drift*float64(told[i].End-first)))
			}
		}
		out = append(out, c)
	}
	return out
}

// mostAhead are upper bounds of how far a clock is ahead, by spans of others that came before.
func mostAhead(told []Told, of []int, byID map[string]int, trusted func(int) bool) (out []bound) {
	for _, i := range of {
		s := &told[i]
		before := func(id string) {
			if at, known := byID[id]; known && id != "" && trusted(at) {
				out = append(out, bound{s.Begin, float64(s.Begin - told[at].Begin)})
			}
		}
		before(s.Parent)
		for _, id := range s.Links {
			before(id)
		}
	}
	return out
}

// between finds the line through the middle of what is between two kinds of bounds, as its value at first
// and its slope, and how far any other line that is between them is from it, from first on for so long.
// Without upper bounds it is the least that can be, does not rise, and that is 0.
func between(least, most []bound, first int64, long float64) (at, slope, within float64) {
	low := func(b float64) (v float64) {
		v = math.Inf(-1)
		for _, x := range least {
			v = max(v, x.ahead-b*float64(x.at-first))
		}
		return v
	}
	if len(most) == 0 {
		return low(0), 0, 0
	}
	high := func(b float64) (v float64) {
		v = math.Inf(1)
		for _, x := range most {
			v = min(v, x.ahead-b*float64(x.at-first))
		}
		return v
	}
	// How much room there is at a slope has one maximum, as the least of sums of lines.
	room := func(b float64) float64 { return high(b) - low(b) }
	slope = highest(-steepest, steepest, room)
	at = (high(slope) + low(slope)) / 2
	if room(slope) < 0 {
		return at, slope, 0 // they contradict each other
	}
	flat, steep := lastWith(slope, -steepest, room), lastWith(slope, steepest, room)
	for _, t := range []float64{0, long} {
		up := func(b float64) float64 { return high(b) + b*t }
		down := func(b float64) float64 { return -low(b) - b*t }
		chosen := at + slope*t
		within = max(within, up(highest(flat, steep, up))-chosen, chosen+down(highest(flat, steep, down)))
	}
	return at, slope, within
}

// rounds is how often a search halves what it looks through, or takes a third of it away.
const rounds = 60

// highest is where a function that rises and then falls is highest.
func highest(from, to float64, f func(float64) float64) float64 {
	for range rounds {
		a, b := from+(to-from)/3, to-(to-from)/3
		if f(a) < f(b) {
			from = a
		} else {
			to = b
		}
	}
	return (from + to) / 2
}

// lastWith is the last slope on the way from one to another at which there is room.
func lastWith(from, to float64, room func(float64) float64) float64 {
	for range rounds {
		if m := (from + to) / 2; room(m) >= 0 {
			from = m
		} else {
			to = m
		}
	}
	return from
}
