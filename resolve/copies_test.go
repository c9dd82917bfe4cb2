package resolve

import (
	"testing"

	"entelon/linux/bpf"
	"entelon/unwind"
)

// TestCopies: what the kernel's program copied is memory for the walk, and says where
// a Go program left its stacks.
func TestCopies(t *testing.T) {
	var windows unwind.Memory
	var goes unwind.GoStacks
	windows = addCopy(windows, bpf.Header{Kind: bpf.KindStack, Addr: 0x7000}, make([]byte, 8), &goes)
	windows = addCopy(windows, bpf.Header{Kind: bpf.KindStack, Addr: 0x8000}, nil, &goes)
	if goes.Known || len(windows) != 1 {
		t.Errorf("%+v, %d windows", goes, len(windows))
	}
	h := bpf.Header{Kind: bpf.KindGoStack, Addr: 0xc800, Low: 0xc000, High: 0xd000, Sp: 0xc800, Pc: 0x401000, Bp: 0xc810, SystemSp: 0x7000}
	windows = addCopy(windows, h, []byte{3, 0, 0, 0, 0, 0, 0, 0}, &goes)
	if want := (unwind.GoStacks{Known: true, Low: 0xc000, High: 0xd000, SP: 0xc800, PC: 0x401000, BP: 0xc810, SystemSP: 0x7000}); goes != want {
		t.Errorf("%+v, want %+v", goes, want)
	}
	if v, ok := windows.Word(0xc800); !ok || v != 3 || len(windows) != 2 {
		t.Errorf("the word is %d %v of %d windows", v, ok, len(windows))
	}
}
