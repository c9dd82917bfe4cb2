package rings

import (
	"math/rand/v2"
	"sort"
	"testing"

	"entelon/linux/perf"
)

// TestOrder delivers the records of several rings, some of them late by less
// than a round, and expects each once and in order of time.
func TestOrder(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	const rounds, length = 50, 1000
	late := map[int][]perf.Record{}
	n := 0
	for i := range rounds {
		for range 40 {
			x := perf.Record{Time: uint64(i*length + r.IntN(length)), TID: uint32(n)}
			n++
			arrives := i
			if r.IntN(10) == 0 && int(x.Time)%length > length/2 { // written just as its ring was drained
				arrives++
			}
			late[arrives] = append(late[arrives], x)
		}
	}
	var o order
	var got []perf.Record
	visit := func(x perf.Record) { got = append(got, x) }
	for i := range rounds + 1 {
		o.add(late[i], uint64((i+1)*length-1), visit)
	}
	o.flush(visit)
	if len(got) != n {
		t.Fatalf("%d of %d records were handed on", len(got), n)
	}
	if !sort.SliceIsSorted(got, func(i, j int) bool { return got[i].Time < got[j].Time }) {
		t.Error("they are not in order of time")
	}
}

// TestDoubled: a thread that was found late may have inherited an event too.
func TestDoubled(t *testing.T) {
	tg := &Target{late: map[uint64]uint32{900: 5}, inherited: map[uint32]bool{}}
	for i, x := range []struct {
		id   uint64
		tid  uint32
		want bool
	}{{900, 5, false}, {100, 6, false}, {900, 5, false}, {100, 5, false}, {900, 5, true}, {100, 5, false}} {
		if got := tg.doubled(perf.Record{ID: x.id, TID: x.tid}); got != x.want {
			t.Errorf("step %d: %v, want %v", i, got, x.want)
		}
	}
}
