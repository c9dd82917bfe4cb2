package symbol

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"entelon/core/profile"
	"entelon/symbol/cache"
)

// stripped builds the source, leaves its debug file at debug, and returns the
// stripped program with the address of its function.
func stripped(t *testing.T, debug string) (path string, addr uint64, id string) {
	t.Helper()
	whole := compile(t, "-O1", "-g")
	addr, id, path = whole.named(t, "route").Addr, whole.BuildID, whole.Path
	debug = strings.ReplaceAll(debug, "ID", id[:2]+"/"+id[2:])
	if err := os.MkdirAll(filepath.Dir(debug), 0o755); err != nil {
		t.Fatal(err)
	}
	run(t, "objcopy", "--only-keep-debug", path, debug)
	run(t, "strip", "--strip-all", path)
	run(t, "objcopy", "--add-gnu-debuglink="+debug, path)
	return path, addr, id
}

// run runs a command that must succeed.
func run(t *testing.T, name string, args ...string) {
	t.Helper()
	if b, err := exec.Command(name, args...).CombinedOutput(); err != nil {
		t.Fatalf("%s: %v: %s", name, err, b)
	}
}

func openedWith(t *testing.T, path string, f *Finder) *Object {
	t.Helper()
	file, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	o, err := OpenObject(file, path, profile.KindOwn, f)
	if err != nil {
		t.Fatal(err)
	}
	return o
}

// TestSeparateDebugFile looks for the debug file in every place that it may be in.
func TestSeparateDebugFile(t *testing.T) {
	for name, place := range map[string]string{
		"by build ID":          ".build-id/ID.debug",
		"by the debug link":    "score.debug",
		"as the program":       "score",
		"in a folder like its": "mirror/score.debug",
	} {
		dir := t.TempDir()
		path, addr, _ := stripped(t, filepath.Join(dir, place))
		if name == "in a folder like its" {
			to := filepath.Join(dir, filepath.Dir(path))
			if err := os.MkdirAll(to, 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.Rename(filepath.Join(dir, place), filepath.Join(to, "score.debug")); err != nil {
				t.Fatal(err)
			}
		}
		bare := openedWith(t, path, &Finder{})
		if l := bare.Locate(addr); !l[0].Unnamed {
			t.Errorf("%s: without its debug file the function is %+v", name, l)
		}
		bare.Close()
		o := openedWith(t, path, &Finder{Dirs: []string{dir}})
		if l := o.Locate(addr); len(l) != 1 || l[0].Name != "route" || l[0].Start != 3 || filepath.Base(l[0].File) != "score.c" || o.DebugFile == "" || o.Fault != nil {
			t.Errorf("%s: %+v, from %q, %v", name, l, o.DebugFile, o.Fault)
		}
		o.Close()
	}
}

// TestDebugFileOfAnotherBuild is not used, and one that is damaged is told.
func TestDebugFileOfAnotherBuild(t *testing.T) {
	dir := t.TempDir()
	path, addr, id := stripped(t, filepath.Join(dir, "score.debug"))
	other := compile(t, "-O0", "-g")
	b, err := os.ReadFile(other.Path)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "score.debug"), b, 0o644); err != nil {
		t.Fatal(err)
	}
	o := openedWith(t, path, &Finder{Dirs: []string{dir}})
	if l := o.Locate(addr); !l[0].Unnamed || o.Fault != nil {
		t.Errorf("the debug file of another build was used: %+v, %v", l, o.Fault)
	}
	o.Close()
	if err := os.MkdirAll(filepath.Join(dir, ".build-id", id[:2]), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, ".build-id", id[:2], id[2:]+".debug"), []byte("rubbish"), 0o644); err != nil {
		t.Fatal(err)
	}
	o = openedWith(t, path, &Finder{Dirs: []string{dir}})
	if l := o.Locate(addr); !l[0].Unnamed || o.Fault == nil || !strings.Contains(o.Fault.Error(), id[2:]+".debug") {
		t.Errorf("a damaged debug file: %+v, %v", l, o.Fault)
	}
	o.Close()
}

// TestFetch asks a server as it must be asked, once, and keeps the answer.
func TestFetch(t *testing.T) {
	debug := filepath.Join(t.TempDir(), "score.debug")
	path, addr, id := stripped(t, debug)
	asked := 0
	answer := http.StatusOK
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked++
		if r.URL.Path != "/buildid/"+id+"/debuginfo" {
			t.Errorf("asked for %s", r.URL.Path)
		}
		switch answer {
		case http.StatusOK:
			http.ServeFile(w, r, debug)
		case http.StatusTeapot:
			fmt.Fprint(w, "<html>hello</html>")
		default:
			w.WriteHeader(answer)
		}
	}))
	defer server.Close()
	cache, err := cache.Open(t.TempDir(), 1<<20)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		answer int
		named  bool
		fault  bool
	}{{http.StatusNotFound, false, false}, {http.StatusTeapot, false, true}, {http.StatusInternalServerError, false, true}, {http.StatusOK, true, false}, {http.StatusGone, true, false}} {
		answer = c.answer
		before := asked
		f := &Finder{Servers: []string{server.URL + "/"}, Cache: cache}
		for range 2 { // the second object of the build must not ask again
			o := openedWith(t, path, f)
			if l := o.Locate(addr); l[0].Unnamed == c.named || (o.Fault != nil) != c.fault {
				t.Errorf("answer %d: %+v, %v", c.answer, l, o.Fault)
			}
			if err := o.Close(); err != nil {
				t.Fatal(err)
			}
		}
		want := before + 1
		if c.answer == http.StatusGone {
			want = before // it is in the cache
		}
		if asked != want {
			t.Errorf("answer %d: asked %d times", c.answer, asked-before)
		}
	}
	if _, err := (&Finder{Cache: cache}).Fetch(context.Background(), "../../etc"); err == nil {
		t.Error("what is not a build ID was asked for")
	}
}

// TestASilentServerIsAskedOnce: what one server fails to do must not be waited
// for again with the next object; the server after it is still asked.
func TestASilentServerIsAskedOnce(t *testing.T) {
	release := make(chan struct{})
	var asked, answered atomic.Int32
	silent := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked.Add(1); <-release }))
	defer silent.Close()
	defer close(release)
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { answered.Add(1); w.WriteHeader(http.StatusNotFound) }))
	defer other.Close()
	cache, err := cache.Open(t.TempDir(), 1<<20)
	if err != nil {
		t.Fatal(err)
	}
	f := &Finder{Servers: []string{silent.URL, other.URL}, Cache: cache, Client: &http.Client{Timeout: 200 * time.Millisecond}}
	for _, id := range []string{"0123456789abcdef", "fedcba9876543210", "00112233445566778899"} {
		if _, err := f.Fetch(context.Background(), id); err == nil || errors.Is(err, errNotFound) {
			t.Errorf("%s: %v; a server that did not answer is not one that has nothing", id, err)
		}
	}
	if asked.Load() != 1 || answered.Load() != 3 {
		t.Errorf("the silent server was asked %d times, the other %d times", asked.Load(), answered.Load())
	}
}

// TestDebianServer fetches from the server that Debian has for this protocol.
func TestDebianServer(t *testing.T) {
	program, err := exec.LookPath("debuginfod")
	if err != nil {
		t.Skip("make compilers installs it: ", err)
	}
	dir := t.TempDir()
	path, addr, _ := stripped(t, filepath.Join(dir, "files", "score.debug"))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	_, port, _ := net.SplitHostPort(l.Addr().String())
	l.Close()
	cmd := exec.Command(program, "-F", "-p", port, "-d", filepath.Join(dir, "index.sqlite"), "--disable-source-scan", filepath.Join(dir, "files"))
	cmd.Env = append(os.Environ(), "HOME="+dir)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() {
		_ = cmd.Process.Kill() // it may have ended by itself
		_ = cmd.Wait()
	}()
	cache, err := cache.Open(filepath.Join(dir, "cache"), 1<<20)
	if err != nil {
		t.Fatal(err)
	}
	for deadline := time.Now().Add(30 * time.Second); ; time.Sleep(200 * time.Millisecond) {
		o := openedWith(t, path, &Finder{Servers: []string{"http://127.0.0.1:" + port}, Cache: cache})
		l, fault := o.Locate(addr), o.Fault
		if err := o.Close(); err != nil {
			t.Fatal(err)
		}
		if l[0].Name == "route" {
			return
		}
		if time.Now().After(deadline) {
			t.Fatalf("the server did not hand the file out: %+v, %v", l, fault)
		}
	}
}

// TestNamesAreKept: a second object of the same build answers from the cache,
// a damaged entry is written anew, and one for another debug file not used.
func TestNamesAreKept(t *testing.T) {
	dir := t.TempDir()
	debug := filepath.Join(dir, "score.debug")
	path, addr, _ := stripped(t, debug)
	cache, err := cache.Open(filepath.Join(dir, "cache"), 1<<20)
	if err != nil {
		t.Fatal(err)
	}
	look := func(f *Finder) (Location, bool) {
		o := openedWith(t, path, f)
		l := o.Locate(addr)[0]
		read := o.symbols != nil
		if err := o.Close(); err != nil {
			t.Fatal(err)
		}
		return l, read
	}
	with, without := &Finder{Dirs: []string{dir}, Cache: cache}, &Finder{Cache: cache}
	first, _ := look(with)
	second, read := look(with)
	if read || second != first || first.Name != "route" || first.Kind != profile.KindOwn {
		t.Errorf("from the cache: %+v, want %+v; symbols were read: %v", second, first, read)
	}
	if l, _ := look(without); !l.Unnamed {
		t.Errorf("without the debug file, its names are still used: %+v", l)
	}
	entries, err := os.ReadDir(cache.Dir)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range entries {
		if err := os.Truncate(filepath.Join(cache.Dir, e.Name()), 20); err != nil {
			t.Fatal(err)
		}
	}
	if l, read := look(with); !read || l != first {
		t.Errorf("from a damaged cache: %+v", l)
	}
	if _, read := look(with); read {
		t.Error("a damaged entry was not written anew")
	}
}
