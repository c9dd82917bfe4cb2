package capture

import (
	"reflect"
	"testing"

	"entelon/linux/bpf"
	"entelon/linux/perf"
	"entelon/linux/perf/perftest"
	"entelon/resolve"
	"entelon/unwind"
)

// otherOf encodes a record of the kernel program for event 88.
func otherOf(pid, tid uint32, time uint64, kind uint64, addr uint64, copied ...uint64) []byte {
	header := make([]uint64, bpf.OtherHeader/8)
	header[bpf.OtherAddr/8], header[bpf.OtherLength/8], header[bpf.OtherKind/8] = addr, uint64(8*len(copied)), kind
	header[bpf.OtherLow/8], header[bpf.OtherHigh/8], header[bpf.OtherSP/8] = 0xc000, 0xd000, 0xc800
	header[bpf.OtherPC/8], header[bpf.OtherBP/8], header[bpf.OtherSystemSP/8] = 0x401000, 0xc810, 0x7000
	b := append(perftest.Words(88, perftest.Who(pid, tid), time), 0, 0, 0, 0) // the length of what follows is not read
	return perftest.Record(perf.RecordSample, 0, append(append(b, perftest.Words(header...)...), perftest.Words(copied...)...))
}

func isOther88(id uint64) bool { return id == 88 }

// TestOthersGoWithTheirSample: copies of other stacks belong to the next
// sample of their thread in the ring, whichever time is the earlier one; those
// of a sample that was lost belong to none.
func TestOthersGoWithTheirSample(t *testing.T) {
	var ring []byte
	ring = append(ring, otherOf(5, 6, 1000, bpf.KindStack, 0x7000, 1, 2)...)
	ring = append(ring, otherOf(5, 7, 1001, bpf.KindStack, 0x9000, 9)...)
	ring = append(ring, otherOf(5, 6, 1002, bpf.KindGoStack, 0xc800, 3)...)
	ring = append(ring, perftest.Sample(5, 6, 990)...)
	ring = append(ring, perftest.Sample(5, 6, 2000)...)
	ring = append(ring, perftest.Sample(5, 7, 1010)...)
	ring = append(ring, otherOf(5, 6, 3000, bpf.KindStack, 0x7000, 4)...)
	ring = append(ring, perftest.Sample(5, 6, 3000+2*bpf.OtherDelay)...)
	var got []perf.Record
	p := bpf.Pairing{}
	if err := perf.SplitRecords(ring, isOther88, func(r perf.Record) { p.Visit(r, func(r perf.Record) { got = append(got, r) }) }); err != nil {
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
	whole := otherOf(5, 6, 1000, bpf.KindGoStack, 0x7000, 1, 2)[8:] // without the header of records
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

// TestDecodeStack: registers have the numbers of package unwind, and the copy
// tells whether the stack may go on.
func TestDecodeStack(t *testing.T) {
	encodeStack := func(abi uint64, room, used uint64) []byte {
		b := perftest.Words(77, 0x1000, perftest.Who(5, 6), 100, 0, 1_003_009, 1, 0x1000, abi)
		if abi != 0 {
			for i := range perf.SampledRegisters {
				b = append(b, perftest.Words(uint64(100+perf.SampledRegisters[i]))...)
			}
		}
		b = append(b, perftest.Words(room)...)
		if room > 0 {
			b = append(append(b, make([]byte, room)...), perftest.Words(used)...)
		}
		return b
	}
	for _, c := range []struct {
		name            string
		abi, room, used uint64
		ok, known, full bool
	}{
		{"all of the copy", 2, 64, 64, true, true, true},
		{"up to the stack's begin", 2, 64, 40, true, true, false},
		{"a thread of the kernel", 0, 0, 0, true, false, false},
		{"code for 32 bits", 1, 64, 64, true, false, true},
		{"more than there is room", 2, 64, 72, false, true, false},
	} {
		var s perf.Sample
		ok := s.Decode(perf.Record{Kind: perf.RecordSample, Body: encodeStack(c.abi, c.room, c.used)}, true, false, false)
		if ok != c.ok || s.Known != c.known || s.Full != c.full || ok && uint64(len(s.Stack)) != c.used {
			t.Errorf("%s: %v, registers %#x, %d bytes, full %v", c.name, ok, s.Registers, len(s.Stack), s.Full)
		}
		if c.known && (resolve.RegistersOf(&s).Value[unwind.RBP] != 106 || resolve.RegistersOf(&s).Value[unwind.RSP] != 107 || resolve.RegistersOf(&s).Value[unwind.PC] != 108 ||
			resolve.RegistersOf(&s).Value[unwind.RBX] != 101 || resolve.RegistersOf(&s).Value[unwind.RDX] != 103 || resolve.RegistersOf(&s).Value[unwind.R8] != 116 || resolve.RegistersOf(&s).Value[unwind.R15] != 123) {
			t.Errorf("%s: %v", c.name, s.Registers)
		}
	}
	whole := encodeStack(2, 64, 64)
	for n := 56; n < len(whole); n++ {
		var s perf.Sample
		if s.Decode(perf.Record{Kind: perf.RecordSample, Body: whole[:n]}, true, false, false) {
			t.Fatalf("%d of %d bytes are taken for a sample", n, len(whole))
		}
	}
}
