package lanes

import (
	"entelon/core/profile"
	"entelon/core/scope"
)

// InScope returns the positions of the lanes that have a sample, a wait or a system call in a
// scope, in their order.
func (x *Index) InScope(sc scope.Scope) []int {
	threads := make([]bool, len(x.p.Threads))
	if sc.All() {
		for i := range threads {
			threads[i] = true
		}
	} else {
		mark := func(of []profile.ThreadID, is []bool) {
			for i, t := range of {
				if is[i] {
					threads[t] = true
				}
			}
		}
		mark(x.p.Samples.Thread, sc.Select(x.p))
		waits := x.p.OfIntervals()
		mark(waits.Samples.Thread, sc.Select(waits))
	}
	var out []int
	for i := range x.Lanes {
		if threads[x.Lanes[i].Thread] {
			out = append(out, i)
		}
	}
	return out
}
