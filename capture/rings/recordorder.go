package rings

import (
	"sort"

	"entelon/linux/perf"
)

// order puts the records of all rings in order of time. Records of one ring
// are in order already but for nested interrupts. A round's records may still
// be missing earlier ones that another processor was writing when its ring
// was drained; so a round is handed on only when the next one has arrived.
type order struct {
	pending []perf.Record
	horizon uint64 // when the round before the latest was drained
}

// add takes the records of a round that was drained at now, and calls visit
// with all that are surely complete, in order of time.
func (o *order) add(records []perf.Record, now uint64, visit func(perf.Record)) {
	o.pending = append(o.pending, records...)
	sort.SliceStable(o.pending, func(i, j int) bool { return o.pending[i].Time < o.pending[j].Time })
	n := sort.Search(len(o.pending), func(i int) bool { return o.pending[i].Time > o.horizon })
	for _, r := range o.pending[:n] {
		visit(r)
	}
	o.pending = append(o.pending[:0:0], o.pending[n:]...)
	o.horizon = now
}

// flush hands on everything that is left.
func (o *order) flush(visit func(perf.Record)) {
	for _, r := range o.pending {
		visit(r)
	}
	o.pending = nil
}
