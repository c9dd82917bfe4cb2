// Package scope says which samples of a profile count. A Scope is what the
// scope line shows; its zero value lets every sample count.
package scope

import "entelon/core/profile"

// Scope restricts samples by time and by thread.
type Scope struct {
	From, To int64 // nanoseconds since the take began, To exclusive; To 0 means the end
	Threads  []profile.ThreadID
}

// All reports whether every sample counts.
func (s Scope) All() bool { return s.From <= 0 && s.To <= 0 && len(s.Threads) == 0 }

// Contains returns a predicate over the positions of p's samples.
func (s Scope) Contains(p *profile.Profile) func(i int) bool {
	if s.All() {
		return func(int) bool { return true }
	}
	wanted := map[profile.ThreadID]bool{}
	for _, t := range s.Threads {
		wanted[t] = true
	}
	return func(i int) bool {
		if p.Samples.Time != nil {
			if t := p.Samples.Time[i]; t < s.From || (s.To > 0 && t >= s.To) {
				return false
			}
		}
		return len(wanted) == 0 || wanted[p.Samples.Thread[i]]
	}
}
