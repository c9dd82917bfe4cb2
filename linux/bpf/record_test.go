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
// sample of their thread in the ring, whichever time is the earlier one; those
// of a sample that was lost belong to none.
func TestOthersGoWithTheirSample(t *testing.T) {
	var ring []byte
	ring = append(ring, bpftest.Record(5, 6, 1000, bpf.KindStack, 0x7000, 1, 2)...)
	ring = append(ring, bpftest.Record(5, 7, 1001, bpf.KindStack, 0x9000, 9)...)
	ring = append(ring, bpftest.Record(5, 6, 1002, bpf.KindGoStack, 0xc800, 3)...)
	ring = append(ring, perftest.Sample(5, 6, 990)...)
	ring = append(ring, perftest.Sample(5, 6, 2000)...)
	ring = append(ring, perftest.Sample(5, 7, 1010)...)
	ring = append(ring, bpftest.Record(5, 6, 3000, bpf.KindStack, 0x7000, 4)...)
	ring = append(ring, perftest.Sample(5, 6, 3000+2*bpf.OtherDelay)...)
	var got []perf.Record
	p := bpf.Pairing{}
	if err := perf.SplitRecords(ring, bpftest.Is88, func(r perf.Record) { p.Visit(r, func(r perf.Record) { got = append(got, r) }) }); err != nil {
		t.Fatal(err)
	}
	var others []int
	for _, r := range got {
		others = append(others, len(r.Others))
	}
	if want := []int{2, 0, 1, 0}; !reflect.DeepEqual(others, want) {
		t.Fatalf("samples have %v copies, want %v", others, want)
	}
	if len(p) != 0 {
		t.Errorf("%d are left", len(p))
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
