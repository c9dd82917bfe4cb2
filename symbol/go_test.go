package symbol

import (
	"debug/elf"
	"encoding/binary"
	"os"
	"path/filepath"
	"testing"

	"entelon/core/profile"
	"entelon/symbol/elfimage"
)

// TestGoRuntimePlaces: the places are the same in a stripped and in a
// position-independent program, and are those that this machine's layout of a
// g demands: two words of bounds and two of guards, panic and defer come before
// m, and the stack's place directly behind it.
func TestGoRuntimePlaces(t *testing.T) {
	var first GoRuntime
	for i, flags := range [][]string{nil, {"-ldflags=-s -w"}, {"-buildmode=pie"}} {
		o, err := NewObject(goBinary(t, flags...), "prog", profile.KindOwn)
		if err != nil {
			t.Fatal(err)
		}
		g, ok := GoRuntimeOf(o)
		if !ok || g.M != 6*8 || g.Sched != 7*8 || g.TLS >= 0 || g.Current == 0 || g.Cgo || g.Labels != 0 || g.ClockPC <= g.Current || g.ClockSP <= g.Current || g.ClockPC == g.ClockSP {
			t.Errorf("%v: %+v %v", flags, g, ok)
		}
		if i == 0 {
			first = g
		} else if g != first {
			t.Errorf("%v: %+v, without flags %+v", flags, g, first)
		}
		if !o.HasGoSection() {
			t.Errorf("%v: no function table", flags)
		}
	}
	c := compile(t, "-O1")
	if _, ok := GoRuntimeOf(c); ok || c.HasGoSection() {
		t.Error("a C program has the places of the Go runtime")
	}
}

// TestGoLabelsPlace: where the program gives labels, their place is behind that of
// the stack, and the same in a stripped program.
func TestGoLabelsPlace(t *testing.T) {
	main := filepath.Join(t.TempDir(), "main.go")
	if err := os.WriteFile(main, []byte(`package main

import (
	"context"
	label "runtime/pprof"
)

func main() {
	label.Do(context.Background(), label.Labels("page", "4"), func(context.Context) { println("drawn") })
}
`), 0o644); err != nil {
		t.Fatal(err)
	}
	var first uint32
	for i, flags := range [][]string{nil, {"-ldflags=-s -w", "-buildmode=pie"}} {
		out := filepath.Join(t.TempDir(), "prog")
		run(t, "go", append(append([]string{"build"}, flags...), "-o", out, main)...)
		b, err := os.ReadFile(out)
		if err != nil {
			t.Fatal(err)
		}
		o, err := NewObject(b, "prog", profile.KindOwn)
		if err != nil {
			t.Fatal(err)
		}
		g, ok := GoRuntimeOf(o)
		if !ok || g.Labels <= g.Sched || g.Labels%8 != 0 || i > 0 && g.Labels != first {
			t.Errorf("%v: %+v %v, before %d", flags, g, ok, first)
		}
		first = g.Labels
	}
	if n := labelsPlace([]byte{0x48, 0x89, 0x44, 0x24, 0x48, 0xc3}); n != 0 { // stored on the stack alone
		t.Errorf("labels are at %d in code that writes none", n)
	}
}

// TestGoFrames: functions come in order and without overlap; a frame grows
// from nothing, and the runtime's marks are read.
func TestGoFrames(t *testing.T) {
	o, err := NewObject(goBinary(t), "prog", profile.KindOwn)
	if err != nil {
		t.Fatal(err)
	}
	var end uint64
	seen := map[string]GoFunction{}
	o.GoFrames(func(f GoFunction) {
		if f.Start < end || f.End <= f.Start {
			t.Fatalf("%s is from %#x to %#x, the one before ends at %#x", f.Name, f.Start, f.End, end)
		}
		end = f.End
		at := uint64(0)
		for _, r := range f.Rows {
			if r.Addr < at || r.Addr < f.Start || r.Addr >= f.End {
				t.Fatalf("%s has a row at %#x, outside %#x to %#x", f.Name, r.Addr, f.Start, f.End)
			}
			at = r.Addr
		}
		f.Rows = append([]GoRow(nil), f.Rows...)
		seen[f.Name] = f
	})
	for name, want := range map[string]struct{ outmost, switches bool }{
		"runtime.goexit": {true, false}, "runtime.mstart": {true, false}, "runtime.systemstack": {false, true},
		"runtime.morestack": {false, true}, "main.main": {false, false}, "runtime.main": {false, false},
	} {
		f, ok := seen[name]
		if !ok || f.Outmost != want.outmost || f.Switches != want.switches {
			t.Errorf("%s: found %v, outmost %v, switches %v", name, ok, f.Outmost, f.Switches)
		}
	}
	rows := seen["main.main"].Rows // it calls, so it keeps the frame pointer
	deepest := int32(0)
	for _, r := range rows {
		deepest = max(deepest, r.Depth)
	}
	if len(rows) < 2 || rows[0].Depth != 0 || deepest < 8 || deepest%8 != 0 {
		t.Errorf("main.main has the rows %+v", rows)
	}
}

// TestSectionsThatLie: a compressed section that says to unpack to more than it
// can, or is no compressed section at all, is refused and nothing is allocated.
func TestSectionsThatLie(t *testing.T) {
	for _, c := range []struct {
		typ  elf.CompressionType
		b    []byte
		size uint64
	}{
		{elf.COMPRESS_ZLIB, []byte("rubbish"), 100},
		{elf.COMPRESS_ZSTD, []byte("rubbish"), 100},
		{elf.COMPRESS_ZLIB, []byte{0x78, 0x9c, 3, 0, 0, 0, 0, 1}, 5}, // which unpacks to nothing
		{elf.COMPRESS_ZLIB, []byte{0x78, 0x9c, 3, 0, 0, 0, 0, 1}, 1 << 40},
		{elf.COMPRESS_ZSTD, []byte("rubbish"), elfimage.MaxUnpacked},
		{77, []byte("rubbish"), 7},
	} {
		if b, err := elfimage.Unpack(c.typ, c.b, c.size); err == nil {
			t.Errorf("%v: %d bytes unpacked to %d", c.typ, len(c.b), len(b))
		}
	}
	o := compile(t, "-O1", "-g", "-gz=zlib")
	im := append([]byte(nil), o.image.Bytes...)
	s := o.file.Section(".debug_info")
	binary.LittleEndian.PutUint64(im[s.Offset+8:], 1<<50) // the size in its header
	h, err := NewObject(im, "score", profile.KindOwn)
	if err != nil {
		t.Fatal(err)
	}
	if l := h.Locate(o.named(t, "route").Addr); l[0].Name != "route" || h.Fault == nil {
		t.Errorf("%+v, fault %v", l, h.Fault)
	}
}

// TestFrames: what an object holds for finding callers is handed out, and an
// object for another processor is refused by name.
func TestFrames(t *testing.T) {
	o := compile(t, "-O1")
	f, err := o.Frames()
	if err != nil || len(f.EHFrame.Bytes) == 0 || f.EHFrame.Addr == 0 || len(f.Code) == 0 {
		t.Fatalf("%d bytes at %#x, %d pieces of code, %v", len(f.EHFrame.Bytes), f.EHFrame.Addr, len(f.Code), err)
	}
	s := o.named(t, "route")
	found := false
	for _, c := range f.Code {
		found = found || s.Addr >= c.Addr && s.End <= c.Addr+uint64(len(c.Bytes))
	}
	if !found {
		t.Error("the function's code is not among the code")
	}
	b := append([]byte(nil), o.image.Bytes...)
	binary.LittleEndian.PutUint16(b[18:], uint16(elf.EM_AARCH64))
	other, err := NewObject(b, "score", profile.KindOwn)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := other.Frames(); err == nil {
		t.Error("code for another processor would be walked by tables")
	}
}
