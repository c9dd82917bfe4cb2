package bpf_test

import (
	"reflect"
	"testing"

	"entelon/linux/bpf"
	"entelon/linux/bpf/bpftest"
	"entelon/linux/perf"
	"entelon/linux/perf/perftest"
)

// TestOthersGoWithTheirSample: copies of other stacks belong to the next
// sample of their thread in the ring, whichever time is the earlier one and however long the
// processor was taken away in between; those of a sample that was lost belong to none.
func TestOthersGoWithTheirSample(t *testing.T) {
	var ring []byte
	ring = append(ring, bpftest.Record(5, 6, 1000, bpf.KindStack, 0x7000, 1, 2)...)
	ring = append(ring, bpftest.Record(5, 7, 1001, bpf.KindStack, 0x9000, 9)...)
	ring = append(ring, bpftest.Record(5, 6, 1002, bpf.KindGoStack, 0xc800, 3)...)
	ring = append(ring, perftest.Sample(5, 6, 990)...)
	ring = append(ring, perftest.Sample(5, 6, 2000)...)
	ring = append(ring, perftest.Sample(5, 7, 1010)...)
	ring = append(ring, bpftest.Record(5, 6, 3000, bpf.KindStack, 0x7000, 4)...)
	ring = append(ring, perftest.Record(perf.RecordLost, 0, append(perftest.Words(88, 1), perftest.Words(perftest.Who(5, 6), 3100, 0, 88)...))...)
	ring = append(ring, perftest.Sample(5, 6, 3000+2*bpf.OtherDelay)...)
	for i, late := range []struct{ other, sample uint64 }{{9e9, 9e9 - 5e6}, {9e9, 9e9 + 5e6}, {9e9, 9e9 + bpf.HeldUp}} {
		ring = append(ring, bpftest.Record(5, uint32(10+i), late.other, bpf.KindStack, 0x7000, 4)...)
		ring = append(ring, perftest.Sample(5, uint32(10+i), late.sample)...)
	}
	var got []perf.Record
	var p bpf.Pairing
	if err := perf.SplitRecords(ring, bpftest.Is88, func(r perf.Record) { p.Visit(r, func(r perf.Record) { got = append(got, r) }) }); err != nil {
		t.Fatal(err)
	}
	var others []int
	for _, r := range got {
		others = append(others, len(r.Others))
	}
	if want := []int{2, 0, 1, 0, 0, 1, 1, 0}; !reflect.DeepEqual(others, want) {
		t.Fatalf("samples have %v copies, want %v", others, want)
	}
	if n := p.Waiting(); n != 0 {
		t.Errorf("%d are left", n)
	}
}

// TestInterruptedSamples: a sample that is made by an interrupt while another one is being written
// gets what is its own, and so does the other.
func TestInterruptedSamples(t *testing.T) {
	in := func(slot, kind, addr uint64) perf.Record {
		return perf.Record{Kind: perf.RecordOther, TID: 7, Time: 1000, Body: bpftest.Body(5, 7, 1000, bpf.Header{Kind: kind, Addr: addr, Slot: slot}, perftest.Words(1))}
	}
	other := func(kind, addr uint64) perf.Record { return in(1, kind, addr) }
	ofTick := func(addr uint64) perf.Record { return in(bpf.SlotEvent, bpf.KindStack, addr) }
	sample := func(id uint64) perf.Record { return perf.Record{Kind: perf.RecordSample, TID: 7, Time: 1000, ID: id} }
	const ticks, tallied = 1, 2
	for name, x := range map[string]struct {
		records []perf.Record
		want    [][]uint64 // addresses that come with each sample
	}{
		"none":                       {[]perf.Record{other(bpf.KindTally, 1), other(bpf.KindStack, 2), sample(tallied), ofTick(3), sample(ticks)}, [][]uint64{{1, 2}, {3}}},
		"by another":                 {[]perf.Record{other(bpf.KindTally, 1), other(bpf.KindTally, 3), other(bpf.KindStack, 4), sample(tallied), other(bpf.KindStack, 2), sample(tallied)}, [][]uint64{{3, 4}, {1, 2}}},
		"by the tick":                {[]perf.Record{other(bpf.KindTally, 1), ofTick(3), sample(ticks), other(bpf.KindStack, 2), sample(tallied)}, [][]uint64{{3}, {1, 2}}},
		"by the tick in its midst":   {[]perf.Record{other(bpf.KindTally, 1), other(bpf.KindStack, 2), ofTick(4), sample(ticks), other(bpf.KindStack, 3), sample(tallied)}, [][]uint64{{4}, {1, 2, 3}}},
		"by a tick that had nothing": {[]perf.Record{other(bpf.KindTally, 1), other(bpf.KindStack, 2), sample(ticks), other(bpf.KindStack, 3), sample(tallied)}, [][]uint64{nil, {1, 2, 3}}},
		"by a tick that was lost":    {[]perf.Record{other(bpf.KindTally, 1), other(bpf.KindStack, 2), ofTick(4), other(bpf.KindStack, 3), sample(tallied)}, [][]uint64{{1, 2, 3}}},
		"by none, of an event":       {[]perf.Record{in(bpf.SlotEvent, bpf.KindTally, 1), ofTick(2), sample(tallied)}, [][]uint64{{1, 2}}},
	} {
		p := bpf.Pairing{Tallied: func(r perf.Record) bool { return r.ID == tallied }}
		var got [][]uint64
		for _, r := range x.records {
			p.Visit(r, func(r perf.Record) {
				var addresses []uint64
				for _, b := range r.Others {
					h, _, _ := bpf.Decode(b)
					addresses = append(addresses, h.Addr)
				}
				got = append(got, addresses)
			})
		}
		if !reflect.DeepEqual(got, x.want) || p.Waiting() != 0 {
			t.Errorf("interrupted by %s: %v, want %v; %d wait", name, got, x.want, p.Waiting())
		}
	}
}

// TestBrokenRecords: a record that is cut short or lies about its length is none.
func TestBrokenRecords(t *testing.T) {
	whole := bpftest.Body(5, 6, 1000, bpf.Header{Kind: bpf.KindGoStack, Addr: 0x7000, High: 0xd000}, perftest.Words(1, 2))
	for n := range whole {
		if h, body, ok := bpf.Decode(whole[:n]); ok || len(body) != 0 {
			t.Fatalf("%d of %d bytes make %+v", n, len(whole), h)
		}
	}
	h, body, ok := bpf.Decode(whole)
	if !ok || h.Addr != 0x7000 || h.High != 0xd000 || h.Kind != bpf.KindGoStack || len(body) != 16 {
		t.Errorf("the whole record makes %+v, %d bytes, %v", h, len(body), ok)
	}
}
