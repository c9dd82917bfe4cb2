package symbol

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"entelon/symbol/cache"
)

// TestForgedBuildIDs: a build ID can be given to any file. Names that were kept of
// one are not another's, not even where that has the same length, or replaces it at
// its place.
func TestForgedBuildIDs(t *testing.T) {
	if _, err := exec.LookPath("cc"); err != nil {
		t.Skip("make compilers installs it: ", err)
	}
	dir := t.TempDir()
	cache, err := cache.Open(filepath.Join(dir, "cache"), 1<<20)
	if err != nil {
		t.Fatal(err)
	}
	build := func(name, function string) string {
		t.Helper()
		source := filepath.Join(dir, name+".c")
		text := "__attribute__((noinline)) int " + function + "(int x) { return x * 3; }\nint main(int c, char **v) { return " + function + "(c); }\n"
		if err := os.WriteFile(source, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		out := filepath.Join(dir, name)
		if b, err := exec.Command("cc", "-O1", "-no-pie", "-Wl,--build-id=0x0123456789abcdef0123456789abcdef01234567", "-o", out, source).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, b)
		}
		return out
	}
	names := func(path, function string, addr uint64) (string, uint64) {
		t.Helper()
		o := openedWith(t, path, &Finder{Cache: cache})
		if addr == 0 {
			for a := o.file.Entry; a < o.file.Entry+4096; a++ {
				if o.Locate(a)[0].Name == function {
					addr = a
					break
				}
			}
		}
		name := o.Locate(addr)[0].Name
		if err := o.Close(); err != nil {
			t.Fatal(err)
		}
		return name, addr
	}
	first, second := build("first", "route"), build("other", "plate")
	a, err := os.ReadFile(first)
	if err != nil {
		t.Fatal(err)
	}
	b, err := os.ReadFile(second)
	if err != nil || len(a) != len(b) {
		t.Fatalf("%d and %d bytes, %v", len(a), len(b), err)
	}
	got, addr := names(first, "route", 0)
	if got != "route" {
		t.Fatalf("the first is read as %q", got)
	}
	if got, _ := names(second, "plate", addr); got != "plate" {
		t.Errorf("the second is read as %q", got)
	}
	if err := os.WriteFile(first, b, 0o755); err != nil {
		t.Fatal(err)
	}
	if got, _ := names(first, "plate", addr); got != "plate" {
		t.Errorf("what has replaced the first is read as %q", got)
	}
}
