package calltree

import (
	"sort"

	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scope"
	"entelon/core/tally"
)

// ThreadCost is what a thread's samples in a scope add up to.
type ThreadCost struct {
	Thread  profile.ThreadID
	Value   int64 // in the measure's unit
	Samples int64
}

// Threads adds up one measure by thread, the costliest first; threads without
// samples in scope are left out. The values sum to the total of the scope.
func (t *Tree) Threads(m int, sc scope.Scope) []ThreadCost {
	return t.ThreadsOf(m, measure.Last, sc)
}

// ThreadsOf is Threads with what is to be made of a level.
func (t *Tree) ThreadsOf(m int, by measure.Reduction, sc scope.Scope) []ThreadCost {
	p := t.Profile
	rows := make([]ThreadCost, len(p.Threads))
	sieve, divisor := t.reduced(m, by, sc)
	t.samples.sorted().eachOf(m, sieve, func(id profile.ThreadID, v int64) {
		rows[id].Value += v
		rows[id].Samples++
	})
	var before int64 // running, so that the parts of a mean come to the mean of the whole
	for i := range rows {
		all := before + rows[i].Value
		rows[i].Value = tally.Floor(all, divisor) - tally.Floor(before, divisor)
		before = all
	}
	out := rows[:0]
	for i, r := range rows {
		if r.Samples > 0 {
			r.Thread = profile.ThreadID(i)
			out = append(out, r)
		}
	}
	sort.Slice(out, func(i, j int) bool {
		if out[i].Value != out[j].Value {
			return out[i].Value > out[j].Value
		}
		return out[i].Thread < out[j].Thread
	})
	return out
}
