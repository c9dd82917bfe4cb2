package capture

import (
	"math/rand/v2"
	"sort"
	"testing"

	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/linux/bpf"
	"entelon/linux/bpf/bpftest"
	"entelon/linux/perf"
	"entelon/linux/perf/perftest"
	"entelon/linux/tracefs"
	"entelon/resolve"
	"entelon/resolve/replay"
)

func FuzzRecords(f *testing.F) {
	f.Add(perftest.Sample(5, 6, 100, 1, 2, 3))
	f.Add(perftest.Record(perf.RecordMmap2, 0, append(perftest.Words(perftest.Who(1, 1), 0, 0, 0, 0, 0, 0, 0), append([]byte("/srv/x\x00"), perftest.Trailer(1, 1, 1)...)...)))
	f.Add(perftest.Record(perf.RecordComm, 0, append(append(perftest.Words(perftest.Who(1, 1)), "name\x00\x00\x00\x00"...), perftest.Trailer(1, 1, 1)...)))
	f.Add(append(bpftest.Record(1, 1, 5, bpf.KindGoStack, 0x7000, 1, 2), perftest.Sample(1, 1, 6, 1)...))
	f.Fuzz(func(t *testing.T, b []byte) {
		builder := profile.NewBuilder()
		ms, err := chooseMeasures(&profile.Settings{Measures: []string{measure.Waiting, measure.Syscalls, measure.Allocations}}, builder)
		if err != nil {
			t.Fatal(err)
		}
		var facts profile.Facts
		tg := &target{byID: map[uint64]int{}}
		fields := map[string]tracefs.Field{"pid": {Offset: 8, Size: 4}, "id": {Offset: 8, Size: 8}, "nr_sector": {Offset: 8, Size: 4}, "rwbs": {Offset: 12, Size: 8}}
		for role := roleCount; role <= roleCall; role++ {
			tg.byID[uint64(role)+77] = len(tg.plan)
			tg.plan = append(tg.plan, &event{role: role, column: 1, copied: len(b)%2 == 0, raw: len(b)%3 == 0, point: tracefs.Tracepoint{Fields: fields}, size: []int{0, 1}, allocator: true})
		}
		c := newConsumer(tg.plan, &ms, resolve.New(builder, &facts, replay.NewWorld(nil)), &facts)
		src := &ringSource{target: tg, reader: rawReader{runTime: perf.RunTime{}}}
		pairs := bpf.Pairing{}
		err = perf.SplitRecords(b, bpftest.Is88, func(x perf.Record) {
			src.hand(x, c.Early)
			pairs.Visit(x, func(x perf.Record) { src.hand(x, c.Visit) }) // a broken one is refused
		})
		c.settle(1 << 40)
		if err == nil && builder.Profile().Check() != nil {
			t.Fatal("the records made a profile that breaks the rules")
		}
	})
}

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
	tg := &target{late: map[uint64]uint32{900: 5}, inherited: map[uint32]bool{}}
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
