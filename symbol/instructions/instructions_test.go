package instructions

import (
	"math/rand/v2"
	"testing"
	"time"
)

// TestVectorInstructionsHaveTheirLength, which the decoder does not know (as an assembler
// writes them).
func TestVectorInstructionsHaveTheirLength(t *testing.T) {
	for code, name := range map[string]string{
		"\xc5\xf8\x77":                             "vzeroupper",
		"\xc5\xfd\x6f\x07":                         "vmovdqa (%rdi),%ymm0",
		"\xc5\xfb\x93\xc0":                         "kmovd %k0,%eax",
		"\xc4\xe3\x7d\x39\xc8\x01":                 "vextracti128 $1,%ymm1,%eax",
		"\xc4\xe2\x7d\x5a\x44\x24\x40":             "vbroadcasti128 0x40(%rsp),%ymm0",
		"\xc5\xf9\x70\xc0\x1b":                     "vpshufd $0x1b,%xmm0,%xmm0",
		"\x62\xa1\xfd\x00\xef\xc0":                 "vpxorq %xmm16,%xmm16,%xmm16",
		"\x62\xf3\x7d\x20\x3f\x07\x00":             "vpcmpeqb (%rdi),%ymm16,%k0",
		"\xc5\xfc\x10\x05\x00\x01\x00\x00":         "vmovups 0x100(%rip),%ymm0",
		"\xc4\xa1\x7e\x6f\x84\x88\x00\x10\x00\x00": "vmovdqu 0x1000(%rax,%r9,4),%ymm0",
	} {
		if _, n := Decode([]byte(code + "\x90\x90\x90\x90\x90")); n != len(code) {
			t.Errorf("%s has %d bytes, not %d", name, len(code), n)
		}
	}
}

// function is 0x1000: push rbx; sub rsp,24; call other; test eax,eax; je +7; add rsp,24;
// pop rbx; ret; (the other way) call other; jmp back; other: ret
const function = "\x53\x48\x83\xec\x18\xe8\x16\x00\x00\x00\x85\xc0\x74\x06\x48\x83\xc4\x18\x5b\xc3\xe8\x07\x00\x00\x00\xeb\xf3\xcc\xcc\xcc\xcc\xcc\xc3"

func TestAFunctionsStack(t *testing.T) {
	c := New(0x1000, []byte(function), func() []uint64 { return []uint64{0x1000} }, nil)
	for pc, want := range map[uint64]int64{0x1000: 0, 0x1001: 8, 0x1005: 32, 0x100a: 32, 0x1012: 8, 0x1013: 0, 0x1014: 32, 0x1019: 32} {
		f, ok := c.At(pc, func(Frame) bool { return true })
		if !ok || f.Start != 0x1000 || f.Return != want {
			t.Errorf("at 0x%x: %+v, %v; want %d", pc, f, ok, want)
		}
		if pc > 0x1000 && pc < 0x1013 && (len(f.Saved) != 1 || f.Saved[0] != Saved{3, 8}) {
			t.Errorf("at 0x%x: saved are %+v", pc, f.Saved)
		}
	}
	if to, direct, ok := c.CallBefore(0x100a); !ok || !direct || to != 0x1020 {
		t.Errorf("before 0x100a: 0x%x, %v, %v", to, direct, ok)
	}
	for _, ra := range []uint64{0x1000, 0x1005, 0x1014, 0x9000, 0} {
		if _, _, ok := c.CallBefore(ra); ok {
			t.Errorf("a call before 0x%x", ra)
		}
	}
	if begin, ok := c.Begins(0x1020); !ok || begin != 0x1020 {
		t.Errorf("what is called begins at 0x%x, %v", begin, ok)
	}
	if _, ok := c.At(0x5000, func(Frame) bool { return true }); ok {
		t.Error("there is something outside of the code")
	}
}

// TestCodeThatIsNone: whatever the bytes are, an analysis ends soon, and stays within them.
func TestCodeThatIsNone(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	began := time.Now()
	for range 60 {
		b := make([]byte, 1+r.IntN(3000))
		for i := range b {
			b[i] = byte(r.Uint32())
			if r.IntN(3) == 0 {
				b[i] = "\xe8\xe9\xeb\x74\x50\x58\xc3\xff"[r.IntN(8)] // calls, jumps, pushes, returns
			}
		}
		base := uint64(r.Uint32())
		c := New(base, b, func() []uint64 { return []uint64{base, base - 1, base + 7, 1 << 63} }, nil)
		for range 40 {
			pc := base + uint64(r.IntN(len(b)+20))
			c.At(pc, func(f Frame) bool { return f.Return > 100 })
			c.CallBefore(pc)
			c.Begins(pc)
		}
	}
	if took := time.Since(began); took > 20*time.Second {
		t.Errorf("it took %v", took)
	}
}

// aligned is 0x1000: mov rcx,rsp; and rsp,-32; sub rsp,0x60; call far; mov rsp,rcx; ret;
// 0x1014: mov rdx,rsp; mov edx,1; and rsp,-16; nop; ret; 0x1024: mov r9,rsp; and rsp,-32; nop
const aligned = "\x48\x89\xe1\x48\x83\xe4\xe0\x48\x83\xec\x60\xe8\x00\x10\x00\x00\x48\x89\xcc\xc3" +
	"\x48\x89\xe2\xba\x01\x00\x00\x00\x48\x83\xe4\xf0\x90\xc3\xcc\xcc" +
	"\x49\x89\xe1\x48\x83\xe4\xe0\x90"

// TestAnAlignedStack: a function that aligns its stack has kept where it was in a register,
// as long as nothing else is written there.
func TestAnAlignedStack(t *testing.T) {
	c := New(0x1000, []byte(aligned), func() []uint64 { return []uint64{0x1000, 0x1014, 0x1024} }, nil)
	const rcx, rsp, r9 = 2, 7, 9
	for pc, want := range map[uint64]Frame{
		0x1003: {Start: 0x1000, Base: rsp}, 0x1007: {Start: 0x1000, Base: rcx}, 0x1010: {Start: 0x1000, Base: rcx},
		0x1013: {Start: 0x1000, Base: rsp}, 0x102b: {Start: 0x1024, Base: r9},
	} {
		f, ok := c.At(pc, func(Frame) bool { return true })
		if !ok || f.Start != want.Start || f.Base != want.Base || f.Return != 0 {
			t.Errorf("at 0x%x: %+v, %v; want %+v", pc, f, ok, want)
		}
	}
	if f, ok := c.At(0x1020, func(f Frame) bool { return f.Start == 0x1014 }); ok {
		t.Errorf("a register that was written over tells %+v", f)
	}
}
