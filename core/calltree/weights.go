package calltree

import "entelon/core/scope"

// Weights are the samples of all measures by function and by thread, for
// proposing names.
func (t *Tree) Weights() scope.Weights {
	p := t.Profile
	w := scope.Weights{Self: make([]int64, len(p.Functions)), Total: make([]int64, len(p.Functions)), Thread: make([]int64, len(p.Threads))}
	for m := range p.Measures {
		for _, r := range Functions(t, t.Cost(m, scope.Scope{})) {
			w.Self[r.Function] += r.SelfSamples
			w.Total[r.Function] += r.TotalSamples
		}
	}
	for _, id := range p.Samples.Thread {
		w.Thread[id]++
	}
	return w
}
