package symbol

import (
	"debug/elf"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"entelon/core/profile"
	"entelon/symbol/location"
	"entelon/symbol/symboltable"
)

const source = `
static int level(int x) { return x * 3 + 1; }
__attribute__((noinline)) int route(int x) {
	return x + level(x);
}
int main(int argc, char **argv) { return route(argc); }
`

// compile builds the source with the given flags and opens the result.
func compile(t *testing.T, flags ...string) *Object {
	t.Helper()
	dir := t.TempDir()
	c, out := filepath.Join(dir, "score.c"), filepath.Join(dir, "score")
	if err := os.WriteFile(c, []byte(source), 0o644); err != nil {
		t.Fatal(err)
	}
	run(t, "cc", append(flags, "-o", out, c)...)
	return opened(t, out, profile.KindOwn)
}

// opened opens an object until the test ends.
func opened(t *testing.T, path string, kind profile.ModuleKind) *Object {
	t.Helper()
	f, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	o, err := OpenObject(f, path, kind, nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { o.Close() })
	return o
}

func (o *Object) named(t *testing.T, name string) symboltable.Symbol {
	t.Helper()
	o.once.Do(o.load)
	for _, s := range o.symbols {
		if s.Text() == name {
			return s
		}
	}
	t.Fatalf("%s has no symbol %s", o.Path, name)
	return symboltable.Symbol{}
}

func TestLocateInC(t *testing.T) {
	for _, flags := range [][]string{{"-O1", "-g"}, {"-O1", "-g", "-gdwarf-4", "-no-pie"}, {"-O1", "-g", "-static"}} {
		o := compile(t, flags...)
		s := o.named(t, "route")
		for _, addr := range []uint64{s.Addr, s.End - 1} {
			l := o.Locate(addr)
			if len(l) != 1 || l[0].Name != "route" || filepath.Base(l[0].File) != "score.c" || l[0].Start != 3 || l[0].Kind != profile.KindOwn {
				t.Errorf("%v: %#x is %+v", flags, addr, l)
			}
		}
		if l := o.Locate(s.Addr); l[0].Line < 2 || l[0].Line > 5 {
			t.Errorf("%v: the first instruction is on line %d", flags, l[0].Line)
		}
		if l := o.Locate(s.End); l[0].Name == "route" {
			t.Errorf("%v: the byte after route is said to be route's", flags)
		}
		if o.BuildID == "" {
			t.Errorf("%v: no build ID", flags)
		}
	}
}

func TestStrippedFunctionsKeepTheirExtent(t *testing.T) {
	whole := compile(t, "-O1", "-no-pie")
	s := whole.named(t, "route")
	out := filepath.Join(t.TempDir(), "stripped")
	run(t, "strip", "-o", out, whole.Path)
	o := opened(t, out, profile.KindOwn)
	a, b := o.Locate(s.Addr)[0], o.Locate(s.End - 1)[0]
	if !a.Unnamed || a.Name != b.Name || a.Function != s.Addr || !strings.HasPrefix(a.Name, "stripped+0x") {
		t.Errorf("both ends of one function are %+v and %+v", a, b)
	}
}

func TestEntryFunctionsOfTheCLibrary(t *testing.T) {
	o := compile(t, "-O1", "-g")
	if !o.Locate(o.named(t, "_start").Addr)[0].Entry {
		t.Error("_start is no entry")
	}
	if o.Locate(o.named(t, "main").Addr)[0].Entry {
		t.Error("main is an entry")
	}
	libs, err := filepath.Glob("/lib/x86_64-linux-gnu/libc.so.6")
	if err != nil || len(libs) == 0 {
		t.Skip("the C library is somewhere else here")
	}
	c := opened(t, libs[0], profile.KindLibrary)
	c.Locate(0)
	if len(c.entries) == 0 {
		t.Error("the functions that start main and threads were not found")
	}
	for addr := range c.entries {
		if l := c.Locate(addr + 8)[0]; !l.Entry {
			t.Errorf("%+v is no entry", l)
		}
	}
}

//go:noinline
func outer(n int) uintptr { return inner(n) }

func inner(int) uintptr {
	pc, _, _, _ := runtime.Caller(0)
	return pc
}

// TestLocateInGo compares with what the runtime says of this very program.
func TestLocateInGo(t *testing.T) {
	o := opened(t, "/proc/self/exe", profile.KindOwn)
	pcs := []uintptr{outer(1)}
	var deep [64]uintptr
	pcs = append(pcs, deep[:runtime.Callers(0, deep[:])]...)
	_ = strings.Map(func(r rune) rune { pcs = append(pcs, deep[:runtime.Callers(0, deep[:])]...); return r }, "x")
	for _, pc := range pcs {
		got := o.Locate(uint64(pc) - 1)
		if o.goTable == nil {
			t.Fatal("this binary's function table was not read")
		}
		want := runtime.FuncForPC(pc - 1)
		file, line := want.FileLine(pc - 1)
		if goName(want.Name()) != got[0].Name || file != got[0].File || uint32(line) != got[0].Line {
			t.Errorf("%#x is %s %s:%d, the runtime says %s %s:%d", pc, got[0].Name, got[0].File, got[0].Line, want.Name(), file, line)
		}
	}
	l := o.Locate(uint64(pcs[0]) - 1)
	if len(l) < 2 || !strings.HasSuffix(l[0].Name, "symbol.inner") || !l[0].Inlined || !strings.HasSuffix(l[1].Name, "symbol.outer") || l[1].Inlined {
		t.Errorf("an inlined call is %+v", l)
	}
	if l[0].Start == 0 || l[0].Line <= l[0].Start {
		t.Errorf("it begins at line %d and is at %d", l[0].Start, l[0].Line)
	}
}

func TestGoNames(t *testing.T) {
	for name, want := range map[string]string{
		"main.main":                               "main",
		"entelon/demo/slur.(*Router).Route":       "entelon/demo/slur",
		"entelon/demo/slur.Map[go.shape.int].Get": "entelon/demo/slur",
		"gopkg.example/yaml%2ev3.Decode":          "gopkg.example/yaml%2ev3",
		"memmove":                                 "",
	} {
		if got := goPackage(name); got != want {
			t.Errorf("%q is of package %q, want %q", name, got, want)
		}
	}
	if got := goName("slices.Sort[go.shape.[]int,go.shape.int].func1"); got != "slices.Sort[...].func1" {
		t.Errorf("generic name: %q", got)
	}
	own := packages{"shop/engraved"}
	for name, want := range map[string]profile.ModuleKind{
		"main.main": profile.KindOwn, "shop/engraved/slur.Route": profile.KindOwn, "shop/engravedtools.X": profile.KindLibrary,
		"runtime.mallocgc": profile.KindRuntime, "internal/runtime/maps.X": profile.KindRuntime, "strconv.Itoa": profile.KindLibrary,
	} {
		if got := own.kind(name); got != want {
			t.Errorf("%s is %s, want %s", name, got, want)
		}
	}
}

func TestDemangled(t *testing.T) {
	for name, want := range map[string]string{
		"_ZN3ink6Raster4fillEi":                 "ink::Raster::fill(int)",
		"_RNvCs6BGhMnPa9dE_8partbook4pull":      "partbook::pull",
		"_ZN8partbook4pull17h0123456789abcdefE": "partbook::pull",
		"route":                                 "route",
		"_Znot a name":                          "_Znot a name",
	} {
		if got := location.Demangled(name); got != want {
			t.Errorf("%q reads %q, want %q", name, got, want)
		}
	}
}

func TestIdentify(t *testing.T) {
	o := compile(t, "-O1")
	id, err := Identify(o.Path)
	if err != nil || id.BuildID != o.BuildID || id.Name() != o.BuildID[:12] {
		t.Errorf("%+v, %v", id, err)
	}
	for want, id := range map[string]Identity{
		"0123456789ab":         {BuildID: "ff", Revision: "0123456789abcdef"},
		"0123456789ab+changes": {Revision: "0123456789abcdef", Modified: true},
		"unnamed":              {},
	} {
		if id.Name() != want {
			t.Errorf("%+v is named %s, want %s", id, id.Name(), want)
		}
	}
	script := filepath.Join(t.TempDir(), "script")
	if err := os.WriteFile(script, []byte("#!/bin/sh\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	if _, err := Identify(script); err == nil {
		t.Error("a script was taken for an object")
	}
}

// FuzzObject must neither crash nor hang on any bytes.
func FuzzObject(f *testing.F) {
	self, err := os.ReadFile("/bin/true")
	if err != nil {
		f.Fatal(err)
	}
	f.Add(self)
	f.Add(self[:200])
	f.Add([]byte(elf.ELFMAG))
	// One with debug information and inlined calls.
	source, out := filepath.Join(f.TempDir(), "ink.cc"), filepath.Join(f.TempDir(), "ink")
	if err := os.WriteFile(source, []byte(nested), 0o644); err != nil {
		f.Fatal(err)
	}
	if text, err := exec.Command("g++", "-O2", "-g", "-nostdlib", "-static", "-Wl,-e,main", "-o", out, source).CombinedOutput(); err != nil {
		f.Fatalf("%v: %s", err, text)
	}
	b, err := os.ReadFile(out)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(b)
	f.Fuzz(func(t *testing.T, b []byte) {
		slow := time.AfterFunc(5*time.Second, func() { panic("reading takes more than 5 s") })
		defer slow.Stop()
		o, err := NewObject(b, "fuzz", profile.KindOwn)
		if err != nil {
			return
		}
		if _, err := o.Frames(); err == nil {
			o.GoFrames(func(g GoFunction) {
				if g.End <= g.Start {
					t.Fatalf("a function from %#x to %#x", g.Start, g.End)
				}
			})
			GoRuntimeOf(o)
		}
		for _, addr := range []uint64{0, 0x1000, 0x401000, 0x401020, 0x401048, 1 << 63} {
			if l := o.Locate(addr); len(l) == 0 || l[len(l)-1].Name == "" {
				t.Fatalf("%#x has no name at all: %+v", addr, l)
			}
			o.Address(addr)
		}
	})
}
