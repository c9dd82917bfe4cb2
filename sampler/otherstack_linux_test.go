package sampler

import (
	"reflect"
	"testing"

	"entelon/unwind"
)

// otherOf encodes a record of the kernel's program for event 88.
func otherOf(pid, tid uint32, time uint64, kind uint64, addr uint64, copied ...uint64) []byte {
	header := make([]uint64, otherHeader/8)
	header[otherAddr/8], header[otherLength/8], header[otherKind/8] = addr, uint64(8*len(copied)), kind
	header[otherLow/8], header[otherHigh/8], header[otherSP/8] = 0xc000, 0xd000, 0xc800
	header[otherPC/8], header[otherBP/8], header[otherSystemSP/8] = 0x401000, 0xc810, 0x7000
	b := append(words(88, who(pid, tid), time), 0, 0, 0, 0) // the length of what follows is not read
	return encode(recSample, 0, append(append(b, words(header...)...), words(copied...)...))
}

func isOther88(id uint64) bool { return id == 88 }

// TestOthersGoWithTheirSample: copies of other stacks belong to the next
// sample of their thread in the ring, whichever time is the earlier one; those
// of a sample that was lost belong to none.
func TestOthersGoWithTheirSample(t *testing.T) {
	var ring []byte
	ring = append(ring, otherOf(5, 6, 1000, kindStack, 0x7000, 1, 2)...)
	ring = append(ring, otherOf(5, 7, 1001, kindStack, 0x9000, 9)...)
	ring = append(ring, otherOf(5, 6, 1002, kindGoStack, 0xc800, 3)...)
	ring = append(ring, sampleOf(5, 6, 990)...)
	ring = append(ring, sampleOf(5, 6, 2000)...)
	ring = append(ring, sampleOf(5, 7, 1010)...)
	ring = append(ring, otherOf(5, 6, 3000, kindStack, 0x7000, 4)...)
	ring = append(ring, sampleOf(5, 6, 3000+2*otherDelay)...)
	var got []record
	p := pairing{}
	if err := splitRecords(ring, isOther88, func(r record) { p.visit(r, func(r record) { got = append(got, r) }) }); err != nil {
		t.Fatal(err)
	}
	var others []int
	for _, r := range got {
		others = append(others, len(r.others))
	}
	if want := []int{2, 0, 1, 0}; !reflect.DeepEqual(others, want) {
		t.Fatalf("samples have %v copies, want %v", others, want)
	}
	var windows unwind.Memory
	var goes unwind.GoStacks
	for _, b := range got[0].others {
		windows = decodeOther(b, windows, &goes)
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
	whole := otherOf(5, 6, 1000, kindGoStack, 0x7000, 1, 2)[8:] // without the header of records
	for n := range whole {
		var goes unwind.GoStacks
		if w := decodeOther(whole[:n], nil, &goes); len(w) != 0 || goes.Known {
			t.Fatalf("%d of %d bytes make %+v %+v", n, len(whole), w, goes)
		}
	}
	var goes unwind.GoStacks
	if w := decodeOther(whole, nil, &goes); len(w) != 1 || !goes.Known {
		t.Errorf("the whole record makes %+v %+v", w, goes)
	}
}

// TestDecodeStack: registers have the numbers of package unwind, and the copy
// tells whether the stack may go on.
func TestDecodeStack(t *testing.T) {
	encodeStack := func(abi uint64, room, used uint64) []byte {
		b := words(77, 0x1000, who(5, 6), 100, 0, 1_003_009, 1, 0x1000, abi)
		if abi != 0 {
			for i := range sampledRegisters {
				b = append(b, words(uint64(100+sampledRegisters[i].bit))...)
			}
		}
		b = append(b, words(room)...)
		if room > 0 {
			b = append(append(b, make([]byte, room)...), words(used)...)
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
		var s sample
		ok := s.decode(record{kind: recSample, body: encodeStack(c.abi, c.room, c.used)}, true, false, false)
		if ok != c.ok || (s.registers.Known != 0) != c.known || s.full != c.full || ok && uint64(len(s.stack)) != c.used {
			t.Errorf("%s: %v, registers %#x, %d bytes, full %v", c.name, ok, s.registers.Known, len(s.stack), s.full)
		}
		if c.known && (s.registers.Value[unwind.RBP] != 106 || s.registers.Value[unwind.RSP] != 107 || s.registers.Value[unwind.PC] != 108 ||
			s.registers.Value[unwind.RBX] != 101 || s.registers.Value[unwind.RDX] != 103 || s.registers.Value[unwind.R8] != 116 || s.registers.Value[unwind.R15] != 123) {
			t.Errorf("%s: %v", c.name, s.registers.Value)
		}
	}
	whole := encodeStack(2, 64, 64)
	for n := 56; n < len(whole); n++ {
		var s sample
		if s.decode(record{kind: recSample, body: whole[:n]}, true, false, false) {
			t.Fatalf("%d of %d bytes are taken for a sample", n, len(whole))
		}
	}
}
