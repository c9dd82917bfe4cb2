package capture

import (
	"encoding/binary"
	"math/rand/v2"
	"reflect"
	"sort"
	"testing"

	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/linux/bpf"
	"entelon/linux/perf"
	"entelon/linux/perf/perftest"
	"entelon/linux/tracefs"
	"entelon/resolve"
)

func TestParseProcessors(t *testing.T) {
	for list, want := range map[string][]int{"0": {0}, "0-2": {0, 1, 2}, "0-1,4,6-7": {0, 1, 4, 6, 7}} {
		if got, err := perf.ParseProcessors(list); err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%q: %v, %v", list, got, err)
		}
	}
	for _, list := range []string{"", "x", "3-1", "0-99999999"} {
		if got, err := perf.ParseProcessors(list); err == nil {
			t.Errorf("%q was read as %v", list, got)
		}
	}
}

func TestSplitRecords(t *testing.T) {
	b := append(perftest.Sample(5, 6, 100, 1, 2, 3), perftest.Record(perf.RecordLost, 0, append(perftest.Words(77, 12), perftest.Trailer(5, 6, 90)...))...)
	var got []perf.Record
	if err := perf.SplitRecords(b, perftest.NoOther, func(r perf.Record) { got = append(got, r) }); err != nil {
		t.Fatal(err)
	}
	if len(got) != 2 || got[0].Time != 100 || got[0].PID != 5 || got[0].TID != 6 || got[1].Time != 90 || got[1].ID != 77 {
		t.Fatalf("%+v", got)
	}
	var s perf.Sample
	if !s.Decode(got[0], false, false, false) || s.Period != 1_003_009 || !reflect.DeepEqual(s.Chain, []uint64{1, 2, 3}) {
		t.Errorf("%+v", s)
	}
	if perf.Word(got[1].Body[len(got[1].Body)-8:]) != 12 {
		t.Error("the number of lost records is not where it is looked for")
	}
	for n := 1; n < len(b); n++ { // a ring never hands over a part, but if it did
		_ = perf.SplitRecords(b[:n], perftest.NoOther, func(r perf.Record) {
			s.Decode(r, false, false, false)
			s.Decode(r, true, false, false)
			s.Decode(r, true, true, false)
		})
	}
	lie := perftest.Sample(1, 1, 1, 5)
	binary.NativeEndian.PutUint64(lie[8+48:], 1<<40)
	if err := perf.SplitRecords(lie, perftest.NoOther, func(r perf.Record) {
		if s.Decode(r, false, false, false) {
			t.Error("a chain longer than its record was decoded")
		}
	}); err != nil {
		t.Fatal(err)
	}
}

func FuzzRecords(f *testing.F) {
	f.Add(perftest.Sample(5, 6, 100, 1, 2, 3))
	f.Add(perftest.Record(perf.RecordMmap2, 0, append(perftest.Words(perftest.Who(1, 1), 0, 0, 0, 0, 0, 0, 0), append([]byte("/srv/x\x00"), perftest.Trailer(1, 1, 1)...)...)))
	f.Add(perftest.Record(perf.RecordComm, 0, append(append(perftest.Words(perftest.Who(1, 1)), "name\x00\x00\x00\x00"...), perftest.Trailer(1, 1, 1)...)))
	f.Add(append(otherOf(1, 1, 5, bpf.KindGoStack, 0x7000, 1, 2), perftest.Sample(1, 1, 6, 1)...))
	f.Fuzz(func(t *testing.T, b []byte) {
		s := &session{builder: profile.NewBuilder(), lastCalls: map[uint32]lastCall{}, target: &target{byID: map[uint64]*source{}}}
		r := resolve.New(s.builder, &s.facts, nil)
		s.resolver = r
		s.o.Settings.Measures = []string{measure.Waiting, measure.Syscalls, measure.Allocations}
		if err := s.chooseMeasures(); err != nil {
			t.Fatal(err)
		}
		fields := map[string]tracefs.Field{"pid": {Offset: 8, Size: 4}, "id": {Offset: 8, Size: 8}, "nr_sector": {Offset: 8, Size: 4}, "rwbs": {Offset: 12, Size: 8}}
		for role := roleCount; role <= roleCall; role++ {
			s.target.byID[uint64(role)+7] = &source{role: role, column: 1, copied: len(b)%2 == 0, raw: len(b)%3 == 0, point: tracefs.Tracepoint{Fields: fields}, size: []int{0, 1}, allocator: true}
		}
		pairs := bpf.Pairing{}
		handle := func(x perf.Record) { _ = s.record(x) } // a broken one is refused
		err := perf.SplitRecords(b, isOther88, func(x perf.Record) { pairs.Visit(x, handle) })
		s.settle()
		if err == nil && r.Builder.Profile().Check() != nil {
			t.Fatal("the records made a profile that breaks the rules")
		}
		if err := r.Close(); err != nil {
			t.Fatal(err)
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
