package symbol

import (
	"bytes"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"entelon/core/profile"
)

// goBinary builds a small Go program and returns its bytes.
func goBinary(t *testing.T, flags ...string) []byte {
	t.Helper()
	dir := t.TempDir()
	main := filepath.Join(dir, "main.go")
	if err := os.WriteFile(main, []byte("package main\n\nfunc half(x int) int { return x / 2 }\n\n//go:noinline\nfunc route(x int) int { return half(x) + 1 }\n\nfunc main() { println(route(3)) }\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	out := filepath.Join(dir, "prog")
	run(t, "go", append(append([]string{"build"}, flags...), "-o", out, main)...)
	b, err := os.ReadFile(out)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// TestHarmedGoTable changes bytes of a Go binary's function table and asks for
// addresses all over it: no answer may be empty, and nothing may crash.
func TestHarmedGoTable(t *testing.T) {
	whole := goBinary(t)
	o, err := NewObject(whole, "prog", profile.KindOwn)
	if err != nil {
		t.Fatal(err)
	}
	table, code := o.file.Section(".gopclntab"), o.file.Section(".text")
	r := rand.New(rand.NewPCG(1, 1))
	for round := range 60 {
		b := bytes.Clone(whole)
		for range 1 + round*20 {
			b[table.Offset+uint64(r.Int64N(int64(table.Size)))] = byte(r.IntN(256))
		}
		if round%3 == 0 { // the table's own header
			b[table.Offset+8+uint64(r.IntN(64))] = byte(r.IntN(256))
		}
		h, err := NewObject(b, "prog", profile.KindOwn)
		if err != nil {
			t.Fatal(err)
		}
		for range 200 {
			addr := code.Addr + uint64(r.Int64N(int64(code.Size)))
			l := h.Locate(addr)
			if len(l) == 0 || len(l) > 300 {
				t.Fatalf("round %d: %#x is %d functions", round, addr, len(l))
			}
		}
	}
}

// TestStrippedGoTellsTheSame: names, files, lines and inlined calls are the same
// with and without symbols, position-independent or not.
func TestStrippedGoTellsTheSame(t *testing.T) {
	for _, flags := range [][]string{nil, {"-ldflags=-s -w"}, {"-buildmode=pie"}, {"-buildmode=pie", "-ldflags=-s -w"}} {
		o, err := NewObject(goBinary(t, flags...), "prog", profile.KindOwn)
		if err != nil {
			t.Fatal(err)
		}
		code := o.file.Section(".text")
		inlined := false
		for addr := code.Addr; addr < code.Addr+code.Size; addr++ {
			l := o.Locate(addr)
			// Behind a function's last instruction is padding, which has no line.
			if last := l[len(l)-1]; last.Name == "main.route" && last.Line != 0 {
				if filepath.Base(last.File) != "main.go" || last.Start != 6 || last.Line != 6 || last.Kind != profile.KindOwn {
					t.Fatalf("%v: %#x is %+v", flags, addr, last)
				}
				if len(l) == 2 {
					inlined = true
					if l[0].Name != "main.half" || l[0].Line != 3 || !l[0].Inlined {
						t.Fatalf("%v: %#x is %+v", flags, addr, l[0])
					}
				}
			}
		}
		if !inlined {
			t.Errorf("%v: the inlined call was not found", flags)
		}
	}
}

// TestInlinedFromAnotherFile: code of a header that was inlined is a frame of
// its own, with its own file, and the frame around it stands at the call.
func TestInlinedFromAnotherFile(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"ink.h":   "\n\n\n\n\n\n\n\n\n\n\n\nstatic inline int ink(int x) {\n\tfor (int i = 0; i < 9; i++) x = x * 31 + i;\n\treturn x;\n}\n",
		"score.c": "#include \"ink.h\"\n__attribute__((noinline)) int route(int x) {\n\treturn ink(x);\n}\nint main(int c, char **v) { return route(c); }\n",
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	out := filepath.Join(dir, "score")
	run(t, "cc", "-O2", "-g", "-o", out, filepath.Join(dir, "score.c"))
	o := opened(t, out, profile.KindOwn)
	s := o.named(t, "route")
	inlined := 0
	for addr := s.Addr; addr < s.End; addr++ {
		l := o.Locate(addr)
		last := l[len(l)-1]
		if last.Name != "route" || filepath.Base(last.File) != "score.c" || last.Start != 2 || last.Line > 4 || last.Inlined {
			t.Fatalf("%#x is %+v", addr, l)
		}
		if len(l) == 2 {
			inlined++
			if x := l[0]; x.Name != "ink" || !x.Inlined || filepath.Base(x.File) != "ink.h" || x.Start != 13 || x.Line < 13 || x.Line > 16 || last.Line != 3 {
				t.Fatalf("%#x is %+v", addr, l)
			}
		}
	}
	if inlined == 0 {
		t.Error("no address of the inlined code was found")
	}
}

// TestDamagedLineTables: the names stay, and the object says what is missing.
func TestDamagedLineTables(t *testing.T) {
	whole := compile(t, "-O1", "-g")
	b, err := os.ReadFile(whole.Path)
	if err != nil {
		t.Fatal(err)
	}
	info := whole.file.Section(".debug_info")
	for i := range min(info.Size, 64) {
		b[info.Offset+i] = 0xee
	}
	o, err := NewObject(b, "score", profile.KindOwn)
	if err != nil {
		t.Fatal(err)
	}
	if l := o.Locate(whole.named(t, "route").Addr); l[0].Name != "route" || o.Fault == nil {
		t.Errorf("%+v, fault %v", l, o.Fault)
	}
	if whole.Fault != nil {
		t.Errorf("a sound object is said to be damaged: %v", whole.Fault)
	}
}
