package viewing

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"entelon/server/request"
	"entelon/store"
)

// Sources are found by the end of their path, and nothing outside of the folders
// is read, whatever a take says.
func TestFindSource(t *testing.T) {
	outside, dir := t.TempDir(), t.TempDir()
	put := func(path, text string) {
		t.Helper()
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	put(filepath.Join(outside, "secret.c"), "secret")
	put(filepath.Join(dir, "slur", "route.go"), "package slur")
	put(filepath.Join(dir, "route.go"), "package other")
	put(filepath.Join(dir, "code.bin"), "a\x00b")
	if err := os.Symlink(filepath.Join(outside, "secret.c"), filepath.Join(dir, "linked.c")); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(outside, filepath.Join(dir, "folder")); err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{
		"/srv/build/slur/route.go": "package slur", "slur/route.go": "package slur", "beam/route.go": "package other",
		"/srv/../../route.go": "package other",
	} {
		text, found, err := findSource(request.OpenFolders([]string{filepath.Join(dir, "gone"), dir}), nil, path)
		if err != nil || text != want || !strings.HasPrefix(found, dir) {
			t.Errorf("%s: %q at %s, %v", path, text, found, err)
		}
	}
	for _, path := range []string{
		"", "missing.go", filepath.Join(outside, "secret.c"), "../" + filepath.Base(outside) + "/secret.c", "linked.c", "folder/secret.c", "/", "slur", "code.bin", "..",
	} {
		if text, found, err := findSource(request.OpenFolders([]string{dir}), []store.SourceRule{{Begins: "../", Becomes: "../"}, {Begins: "/", Becomes: "/"}, {Begins: "missing", Becomes: "folder/secret"}, {Begins: "..", Becomes: "slur/../.."}}, path); err == nil || text != "" {
			t.Errorf("%q was read at %s: %q", path, found, text)
		}
	}
	rules := []store.SourceRule{{Begins: "/build/17/", Becomes: dir + "/slur/"}, {Begins: "/build/", Becomes: "./"}}
	for path, want := range map[string]string{"/build/17/route.go": "package slur", "/build/route.go": "package other", "/elsewhere/route.go": "package other"} {
		if text, _, err := findSource(request.OpenFolders([]string{outside, dir}), rules, path); err != nil || text != want {
			t.Errorf("by rules %s: %q, %v", path, text, err)
		}
	}
	if _, _, err := findSource(request.SourceFolders{}, nil, "x.go"); !errors.Is(err, errNoSource) {
		t.Errorf("without folders: %v", err)
	}
}
