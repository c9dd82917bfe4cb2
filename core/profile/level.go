package profile

import (
	"slices"

	"entelon/core/measure"
)

// Snapshot is all samples of a level that have the same time.
type Snapshot struct {
	Time  int64 // nanoseconds since the take began
	Total int64 // in the measure's unit
}

// Snapshots returns those of a level among the samples at the positions from, to
// exclusive, of which the times are in; nil has all in. They are in the order of
// their times. A profile without times is one snapshot.
func (p *Profile) Snapshots(level, from, to int, in func(time int64) bool) []Snapshot {
	var out []Snapshot
	values := p.Samples.Values[level]
	sorted := true
	for i := from; i < to; i++ {
		if values[i] == 0 { // a sample of another measure
			continue
		}
		at := int64(0)
		if p.Samples.Time != nil {
			at = p.Samples.Time[i]
		}
		if in != nil && !in(at) {
			continue
		}
		if n := len(out); n > 0 && out[n-1].Time == at {
			out[n-1].Total += values[i]
			continue
		} else if n > 0 && out[n-1].Time > at {
			sorted = false
		}
		out = append(out, Snapshot{at, values[i]})
	}
	if sorted {
		return out
	}
	slices.SortFunc(out, func(a, b Snapshot) int { return int(max(-1, min(1, a.Time-b.Time))) })
	kept := out[:1]
	for _, s := range out[1:] {
		if last := &kept[len(kept)-1]; last.Time == s.Time {
			last.Total += s.Total
		} else {
			kept = append(kept, s)
		}
	}
	return kept
}

// Reduced returns the snapshot that stands for several, and by how much its total
// is divided: of a mean, all of them stand for all, divided by their number, and the
// time says nothing.
func Reduced(all []Snapshot, by measure.Reduction) (s Snapshot, divisor int64) {
	if len(all) == 0 {
		return Snapshot{}, 1
	}
	switch by {
	case measure.First:
		return all[0], 1
	case measure.Peak:
		s = all[0]
		for _, x := range all[1:] {
			if x.Total > s.Total {
				s = x
			}
		}
		return s, 1
	case measure.Mean:
		for _, x := range all {
			s.Total += x.Total
		}
		return s, int64(len(all))
	}
	return all[len(all)-1], 1
}

// Total returns what a measure comes to over all samples: the sum of a sum, the last
// total of a level.
func (p *Profile) Total(m int) int64 {
	if p.Measures[m].Combine == measure.Level {
		s, _ := Reduced(p.Snapshots(m, 0, p.Samples.Len(), nil), measure.Last)
		return s.Total
	}
	var total int64
	for _, v := range p.Samples.Values[m] {
		total += v
	}
	return total
}
