package packages

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"entelon/symbol"
	"entelon/symbol/cache"
)

// A distribution of its own: what is installed, and a list of packages with their files.
type distribution struct {
	program string // stripped, of the package inkraster
	id      string // its build
}

func run1(t *testing.T, name string, args ...string) {
	t.Helper()
	if b, err := exec.Command(name, args...).CombinedOutput(); err != nil {
		t.Fatalf("%s: %v: %s", name, err, b)
	}
}

func write(t *testing.T, path, text string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// newDistribution makes one with the package inkraster installed, whose debug files are in
// the package of a name and a version.
func newDistribution(t *testing.T, debug, version string) distribution {
	t.Helper()
	for _, tool := range []string{"dpkg-deb", "dpkg-query", "apt-get", "apt-cache"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skip("a distribution with Debian's tools: ", err)
		}
	}
	dir := t.TempDir()
	if err := os.Chmod(filepath.Dir(dir), 0o755); err != nil { // apt reads as another user
		t.Fatal(err)
	}
	source, program := filepath.Join(dir, "fill.c"), filepath.Join(dir, "bin", "inkraster")
	write(t, source, "int fill(int n) { return n + 1; }\nint main(int n, char **v) { return fill(n); }\n")
	write(t, program, "")
	run1(t, "cc", "-g", "-O0", "-o", program, source)
	d := distribution{program: program, id: symbol.BuildIDOf(program)}

	tree := filepath.Join(dir, "tree")
	write(t, filepath.Join(tree, "DEBIAN", "control"), fmt.Sprintf("Package: %s\nVersion: %s\nArchitecture: all\nMaintainer: shop <shop@example.org>\nDescription: debug files\n", debug, version))
	file := filepath.Join(tree, "usr/lib/debug/.build-id", d.id[:2], d.id[2:]+".debug")
	write(t, file, "")
	run1(t, "objcopy", "--only-keep-debug", program, file)
	run1(t, "strip", program)
	archive := filepath.Join(dir, "pool", debug+".deb")
	if err := os.Mkdir(filepath.Dir(archive), 0o755); err != nil {
		t.Fatal(err)
	}
	run1(t, "dpkg-deb", "--build", "--root-owner-group", tree, archive)
	b, err := os.ReadFile(archive)
	if err != nil {
		t.Fatal(err)
	}
	write(t, filepath.Join(dir, "pool", "Packages"), fmt.Sprintf("Package: %s\nVersion: %s\nArchitecture: all\nMaintainer: shop <shop@example.org>\nProvides: inkraster-other\nFilename: ./%s.deb\nSize: %d\nSHA256: %x\nDescription: debug files\n", debug, version, debug, len(b), sha256.Sum256(b)))

	admin := filepath.Join(dir, "dpkg")
	write(t, filepath.Join(admin, "status"), "Package: inkraster\nStatus: install ok installed\nVersion: 3.5.0-1\nArchitecture: all\nMaintainer: shop <shop@example.org>\nDescription: the rasteriser\n")
	write(t, filepath.Join(admin, "info", "inkraster.list"), "/.\n"+program+"\n")
	write(t, filepath.Join(admin, "info", "format"), "1\n")
	apt := filepath.Join(dir, "apt")
	for _, sub := range []string{"lists/partial", "archives/partial", "parts"} {
		if err := os.MkdirAll(filepath.Join(apt, sub), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	write(t, filepath.Join(apt, "sources.list"), "deb [trusted=yes] file:"+filepath.Join(dir, "pool")+" ./\n")
	write(t, filepath.Join(apt, "apt.conf"), fmt.Sprintf(`Dir::State "%[1]s"; Dir::State::Lists "%[1]s/lists"; Dir::State::status "%[2]s/status"; Dir::Cache "%[1]s"; Dir::Cache::Archives "%[1]s/archives"; Dir::Etc::sourcelist "%[1]s/sources.list"; Dir::Etc::sourceparts "%[1]s/parts"; APT::Sandbox::User "";
`, apt, admin))
	t.Setenv("APT_CONFIG", filepath.Join(apt, "apt.conf"))
	t.Setenv("DPKG_ADMINDIR", admin)
	run1(t, "apt-get", "-q", "update")
	return d
}

func finder(t *testing.T) *symbol.Finder {
	t.Helper()
	cache, err := cache.Open(t.TempDir(), 1<<20)
	if err != nil {
		t.Fatal(err)
	}
	return &symbol.Finder{Cache: cache}
}

// TestFromAPackage: the debug file of just this build comes from the package of the same
// version, and is found from then on. Nothing is installed.
func TestFromAPackage(t *testing.T) {
	for _, name := range []string{"inkraster-dbgsym", "inkraster-dbg"} {
		d, f := newDistribution(t, name, "3.5.0-1"), finder(t)
		asked := ""
		if err := Get(context.Background(), f, d.program, d.id, func(p Package) { asked = p.Name; _ = p.Size }); err != nil || asked != name {
			t.Fatalf("%s: asked for %q: %v", name, asked, err)
		}
		o, err := f.OpenBuild(d.program, d.id, 1)
		if err != nil || o == nil || !strings.Contains(o.DebugFile, d.id) {
			t.Fatalf("%s: %+v, %v", name, o, err)
		}
		if err := o.Close(); err != nil {
			t.Error(err)
		}
		if left, err := filepath.Glob(filepath.Join(os.TempDir(), "entelon-package-*")); err != nil || len(left) != 0 {
			t.Errorf("%v is left behind, %v", left, err)
		}
	}
}

// TestNoPackage: where there is none of this version or this build, that is said, and
// nothing of another one is used.
func TestNoPackage(t *testing.T) {
	ctx := context.Background()
	d := newDistribution(t, "inkraster-dbgsym", "3.4.0-1")
	for why, c := range map[string]struct{ path, id string }{
		"debug files for inkraster 3.5.0-1": {d.program, d.id},
		"not on this machine":               {d.program, strings.Repeat("0", len(d.id))},
		"is not on this machine":            {"/not/here", d.id},
	} {
		err := Get(ctx, finder(t), c.path, c.id, nil)
		if !errors.Is(err, ErrNone) || !strings.Contains(err.Error(), why) {
			t.Errorf("%s: %v", why, err)
		}
	}
	for _, path := range []string{"/*", "--admindir=/", "inkraster", "", "/" + filepath.Base(d.program), d.program + "\n"} {
		if p, err := Of(ctx, path); !errors.Is(err, ErrNone) {
			t.Errorf("%q is of %+v, %v", path, p, err)
		}
	}
	if p, err := Debug(ctx, Package{Name: "inkraster", Version: "3.4.0-1"}); err != nil || p.Size == 0 {
		t.Errorf("%+v, %v", p, err)
	}
}
