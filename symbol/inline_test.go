package symbol

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"entelon/core/profile"
)

const nested = `
namespace ink {
template <int N> static inline __attribute__((always_inline)) double flatten(double x) {
	for (int i = 0; i < N; i++)
		x = x * 1.5 + i;
	return x;
}
struct Pen {
	double wide;
	__attribute__((always_inline)) double stroke(double x) {
		return flatten<7>(x) * wide;
	}
};
namespace {
__attribute__((always_inline)) inline double page(Pen p, double x) {
	return p.stroke(x) + 1;
}
}
__attribute__((noinline)) double draw(double x) {
	Pen p{3};
	return page(p, x);
}
}
int main(int argc, char **) { return int(ink::draw(argc)); }
`

// TestInlinedAtEveryDepth reads a chain of four inlined calls, in DWARF 4 and
// 5, in the program and in compressed and link-time optimised forms.
func TestInlinedAtEveryDepth(t *testing.T) {
	dir := t.TempDir()
	source, out := filepath.Join(dir, "ink.cc"), filepath.Join(dir, "ink")
	if err := os.WriteFile(source, []byte(nested), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, flags := range [][]string{{"-gdwarf-5"}, {"-gdwarf-4"}, {"-gz=zlib"}, {"-gz=zlib-gnu"}, {"-flto"}, {"-fdebug-types-section", "-gdwarf-4"}} {
		run(t, "g++", append([]string{"-O2", "-g", "-o", out, source}, flags...)...)
		o := opened(t, out, profile.KindOwn)
		s := o.named(t, "_ZN3ink4drawEd")
		found := false
		for addr := s.Addr; addr < s.End; addr++ {
			l := o.Locate(addr)
			if len(l) < 4 {
				continue
			}
			found = true
			want := []Location{
				{Name: "ink::flatten<7>", Start: 3},
				{Name: "ink::Pen::stroke(double)", Start: 10, Line: 11, Linkage: "_ZN3ink3Pen6strokeEd"},
				{Name: "ink::(anonymous namespace)::page", Start: 15, Line: 16},
				{Name: "ink::draw(double)", Start: 19, Line: 21, Linkage: "_ZN3ink4drawEd", Function: s.Addr},
			}
			for i, w := range want {
				g := l[i]
				if i == 0 && (g.Line < 3 || g.Line > 6) || i > 0 && g.Line != w.Line {
					t.Errorf("%v: %#x: %s is at line %d, want %d", flags, addr, g.Name, g.Line, w.Line)
				}
				if !strings.HasPrefix(g.Name, strings.TrimSuffix(w.Name, "<7>")) || g.Start != w.Start || w.Linkage != "" && g.Linkage != w.Linkage ||
					g.Inlined != (i < 3) || filepath.Base(g.File) != "ink.cc" || g.Kind != profile.KindOwn {
					t.Fatalf("%v: %#x: frame %d is %+v, want %+v", flags, addr, i, g, w)
				}
			}
		}
		if !found || o.Fault != nil {
			t.Errorf("%v: no address has all calls; fault %v", flags, o.Fault)
		}
	}
}

// TestDamagedDebugInformation changes bytes of every section: names stay or go,
// what is missing is told or not, but nothing crashes or hangs.
func TestDamagedDebugInformation(t *testing.T) {
	whole := compile(t, "-O2", "-g", "-static")
	b, err := os.ReadFile(whole.Path)
	if err != nil {
		t.Fatal(err)
	}
	s := whole.named(t, "route")
	for _, sec := range whole.file.Sections {
		if !strings.HasPrefix(sec.Name, ".debug_") && !strings.HasPrefix(sec.Name, ".eh_frame") && sec.Name != ".symtab" && sec.Name != ".strtab" {
			continue
		}
		for seed := range uint64(6) {
			harmed := append([]byte(nil), b...)
			for i := range uint64(40) {
				at := (seed*2654435761 + i*i*40503 + i) % sec.FileSize
				harmed[sec.Offset+at] = byte(seed*37 + i*11)
			}
			o, err := NewObject(harmed, "harmed", profile.KindOwn)
			if err != nil {
				continue
			}
			for _, addr := range []uint64{s.Addr, s.Addr + 5, 0, ^uint64(0)} {
				if l := o.Locate(addr); len(l) == 0 {
					t.Fatalf("%s: no location", sec.Name)
				}
			}
		}
	}
}

// TestWhose: what the standard library brought into the program is the library's.
func TestWhose(t *testing.T) {
	for file, want := range map[string]profile.ModuleKind{
		"/usr/include/c++/12/bits/stl_algo.h":                profile.KindLibrary,
		"/rustc/9fc6b4/library/core/src/slice/sort.rs":       profile.KindLibrary,
		"/home/ink/.cargo/registry/src/index/pen/src/lib.rs": profile.KindLibrary,
		"/srv/inkraster/raster.cc":                           profile.KindOwn,
		"":                                                   profile.KindOwn,
	} {
		if got := whose(file, profile.KindOwn); got != want {
			t.Errorf("%s is %v, want %v", file, got, want)
		}
	}
	if whose("/srv/x.c", profile.KindLibrary) != profile.KindLibrary {
		t.Error("a library's own code became the program's")
	}
}
