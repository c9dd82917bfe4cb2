package symbol

import (
	"bytes"
	"encoding/hex"
	"os"
	"path/filepath"
	"testing"

	"entelon/core/profile"
	"entelon/symbol/cache"
)

// TestDebugFileAlone: a debug file names the code of a program that is not here, from a
// folder and from the cache; the program itself serves where it has names or finds them.
func TestDebugFileAlone(t *testing.T) {
	dir := t.TempDir()
	path, addr, id := stripped(t, filepath.Join(dir, "debug", ".build-id", "ID.debug"))
	cache, err := cache.Open(filepath.Join(dir, "cache"), 1<<20)
	if err != nil {
		t.Fatal(err)
	}
	kept := &Finder{Cache: cache}
	whole := compile(t, "-O1", "-g")
	if err := kept.Keep(id, filepath.Join(dir, "debug", ".build-id", id[:2], id[2:]+".debug")); err != nil {
		t.Fatal(err)
	}
	// What is there under the name of a build or a program, but is none, is passed over.
	damaged := filepath.Join(dir, "damaged")
	place := filepath.Join(damaged, ".build-id", id[:2], id[2:]+".debug")
	if err := os.MkdirAll(filepath.Dir(place), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(place, []byte("rubbish"), 0o644); err != nil {
		t.Fatal(err)
	}
	folder := &Finder{Dirs: []string{filepath.Join(dir, "debug")}}
	elsewhere := filepath.Join(dir, "not", "here")
	for name, c := range map[string]struct {
		finder   *Finder
		path, id string
		found    bool
	}{
		"program and folder":    {folder, path, id, true},
		"program and cache":     {kept, path, id, true},
		"folder alone":          {folder, elsewhere, id, true},
		"cache alone":           {kept, elsewhere, id, true},
		"script and folder":     {folder, place, id, true},
		"damaged, and cache":    {&Finder{Dirs: []string{damaged}, Cache: cache}, elsewhere, id, true},
		"nothing":               {&Finder{}, path, id, false},
		"another build":         {folder, path, "00" + id[2:], false},
		"no build":              {folder, path, "", false},
		"what is not a program": {folder, filepath.Join(dir, "debug"), "", false},
		"a name to get out":     {folder, elsewhere, "../" + id, false},
		"a program with more":   {&Finder{}, whole.Path, whole.BuildID, true},
	} {
		o, err := c.finder.OpenBuild(c.path, c.id, profile.KindOwn)
		if err != nil || (o != nil) != c.found {
			t.Errorf("%s: %v, found is %v", name, err, o != nil)
			continue
		}
		if o == nil {
			continue
		}
		if l := o.Locate(addr); l[0].Name != "route" || l[0].Start != 3 || o.Path != c.path || o.Fault != nil {
			t.Errorf("%s: %+v, %v", name, l, o.Fault)
		}
		if err := o.Close(); err != nil {
			t.Error(err)
		}
	}
	if got := BuildIDOf(path); got != id {
		t.Errorf("%s is of build %s, not of %s", path, got, id)
	}
	if got := BuildIDOf(dir); got != "" {
		t.Errorf("a folder is of build %s", got)
	}
}

// TestSharedDebugFile: what a debug file shares with others is found by its build, too,
// where it came along with it from another place.
func TestSharedDebugFile(t *testing.T) {
	dir := t.TempDir()
	path, addr, id := stripped(t, filepath.Join(dir, "debug", ".build-id", "ID.debug"))
	debug := filepath.Join(dir, "debug", ".build-id", id[:2], id[2:]+".debug")
	shared := compile(t, "-O0", "-g", "-Wl,--build-id=0x00112233445566778899")
	raw, err := hex.DecodeString(shared.BuildID)
	if err != nil {
		t.Fatal(err)
	}
	link := filepath.Join(dir, "link")
	if err := os.WriteFile(link, bytes.Join([][]byte{[]byte("../../.dwz/shop.debug"), raw}, []byte{0}), 0o644); err != nil {
		t.Fatal(err)
	}
	run(t, "objcopy", "--add-section", ".gnu_debugaltlink="+link, debug)
	cache, err := cache.Open(filepath.Join(dir, "cache"), 1<<20)
	if err != nil {
		t.Fatal(err)
	}
	f := &Finder{Dirs: []string{filepath.Join(dir, "debug")}, Cache: cache}
	for _, there := range []bool{false, true} {
		for _, p := range []string{path, filepath.Join(dir, "not", "here")} {
			o, err := f.OpenBuild(p, id, profile.KindOwn)
			if err != nil || o == nil {
				t.Fatal(p, err)
			}
			if l := o.Locate(addr); l[0].Name != "route" || (o.Fault == nil) != there || (o.shared != nil) != there {
				t.Errorf("the shared file is there: %v; %+v, %v", there, l, o.Fault)
			}
			if err := o.Close(); err != nil {
				t.Error(err)
			}
		}
		if err := f.Keep(shared.BuildID, shared.Path); err != nil {
			t.Fatal(err)
		}
	}
}
