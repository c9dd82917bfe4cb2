package rings

import (
	"slices"
	"testing"

	"entelon/linux/bpf"
	"entelon/linux/perf"
	"entelon/resolve/raw"
	"entelon/unwind"
)

// TestCopies: what the kernel's program copied is memory for the walk, and says where
// a Go program left its stacks.
func TestCopies(t *testing.T) {
	var s raw.Sample
	addOther(&s, bpf.Header{Kind: bpf.KindStack, Addr: 0x7000}, make([]byte, 8))
	addOther(&s, bpf.Header{Kind: bpf.KindStack, Addr: 0x8000}, nil)
	if s.Go.Known || len(s.Memory) != 1 {
		t.Errorf("%+v, %d windows", s.Go, len(s.Memory))
	}
	h := bpf.Header{Kind: bpf.KindGoStack, Addr: 0xc800, Low: 0xc000, High: 0xd000, Sp: 0xc800, Pc: 0x401000, Bp: 0xc810, SystemSp: 0x7000}
	addOther(&s, h, []byte{3, 0, 0, 0, 0, 0, 0, 0})
	if want := (unwind.GoStacks{Known: true, Low: 0xc000, High: 0xd000, SP: 0xc800, PC: 0x401000, BP: 0xc810, SystemSP: 0x7000}); s.Go != want {
		t.Errorf("%+v, want %+v", s.Go, want)
	}
	if v, ok := s.Memory.Word(0xc800); !ok || v != 3 || len(s.Memory) != 2 {
		t.Errorf("the word is %d %v of %d windows", v, ok, len(s.Memory))
	}
}

// TestSplitChain: the kernel's marks part a call chain.
func TestSplitChain(t *testing.T) {
	for _, x := range []struct{ chain, kernel, program []uint64 }{
		{nil, nil, nil},
		{[]uint64{contextUser, 0x10, 0x20}, nil, []uint64{0x10, 0x20}},
		{[]uint64{contextKernel, 0xffffffff81000000, 0xffffffff81000020, contextUser, 0x10}, []uint64{0xffffffff81000000, 0xffffffff81000020}, []uint64{0x10}},
		{[]uint64{0x10}, nil, nil},
	} {
		kernel, program := splitChain(x.chain, nil)
		if !slices.Equal(kernel, x.kernel) || !slices.Equal(program, x.program) {
			t.Errorf("%#x: %#x and %#x", x.chain, kernel, program)
		}
	}
}

// TestLabelsOfRecords: records of any length are read to their end and no further.
func TestLabelsOfRecords(t *testing.T) {
	whole := make([]byte, 2*labelBytes)
	copy(whole[8:], "page")
	for n := range whole {
		var s raw.Sample
		addOther(&s, bpf.Header{Kind: bpf.KindLabels, Low: 2}, whole[:n])
		if len(s.Labels) != n/labelBytes || s.Labelled != 2 {
			t.Fatalf("%d bytes have %d labels", n, len(s.Labels))
		}
		if n >= labelBytes && string(s.Labels[0].Name[:5]) != "page\x00" {
			t.Errorf("the name is %q", s.Labels[0].Name)
		}
	}
}

// TestRegistersOf: the kernel's registers have the numbers of package unwind.
func TestRegistersOf(t *testing.T) {
	var s perf.Sample
	for i := range s.Registers {
		s.Registers[i] = uint64(100 + perf.SampledRegisters[i])
	}
	r := registersOf(&s)
	for n, want := range map[int]uint64{unwind.RBP: 106, unwind.RSP: 107, unwind.PC: 108, unwind.RBX: 101, unwind.RDX: 103, unwind.R8: 116, unwind.R15: 123} {
		if r.Value[n] != want {
			t.Errorf("register %d is %d, want %d", n, r.Value[n], want)
		}
	}
}
