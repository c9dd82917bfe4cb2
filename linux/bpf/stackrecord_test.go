package bpf_test

import (
	"reflect"
	"testing"

	"entelon/linux/bpf"
	"entelon/linux/bpf/bpftest"
	"entelon/linux/perf"
	"entelon/linux/perf/perftest"
	"entelon/unwind"
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
	var windows unwind.Memory
	var goes unwind.GoStacks
	for _, b := range got[0].Others {
		windows = bpf.DecodeOther(b, windows, &goes)
	}
	if len(windows) != 2 || windows[0].Start != 0x7000 || windows[1].Start != 0xc800 || len(p) != 0 {
		t.Errorf("%+v, %d left", windows, len(p))
	}
	if v, ok := windows.Word(0x7008); !ok || v != 2 {
		t.Errorf("the second word is %d %v", v, ok)
	}
	if want := (unwind.GoStacks{Known: true, Low: 0xc000, High: 0xd000, SP: 0xc800, PC: 0x401000, BP: 0xc810, SystemSP: 0x7000}); goes != want {
		t.Errorf("%+v, want %+v", goes, want)
	}
}

// TestBrokenOthers: a record that is cut short or lies about its length adds
// nothing.
func TestBrokenOthers(t *testing.T) {
	whole := bpftest.Record(5, 6, 1000, bpf.KindGoStack, 0x7000, 1, 2)[8:] // without the header of records
	for n := range whole {
		var goes unwind.GoStacks
		if w := bpf.DecodeOther(whole[:n], nil, &goes); len(w) != 0 || goes.Known {
			t.Fatalf("%d of %d bytes make %+v %+v", n, len(whole), w, goes)
		}
	}
	var goes unwind.GoStacks
	if w := bpf.DecodeOther(whole, nil, &goes); len(w) != 1 || !goes.Known {
		t.Errorf("the whole record makes %+v %+v", w, goes)
	}
}
