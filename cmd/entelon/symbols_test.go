package main

import (
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"entelon/cmd/entelon/reading"
	"entelon/cmd/entelon/symbols"
	"entelon/symbol"
)

// TestSymbolsGet: a take of a stripped program says what gets its names; they come from a
// server for just this build, even when the program is gone, and nothing else changes.
func TestSymbolsGet(t *testing.T) {
	mustSample(t)
	dir := t.TempDir()
	program, debug, file := filepath.Join(dir, "inkraster"), filepath.Join(dir, "inkraster.debug"), filepath.Join(dir, "x.take")
	for _, words := range [][]string{
		{"cc", "-O2", "-g", "-pthread", "-Wl,--build-id", "-o", program, "testdata/shares/shares.c"},
		{"objcopy", "--only-keep-debug", program, debug}, {"strip", program},
	} {
		if out, err := exec.Command(words[0], words[1:]...).CombinedOutput(); err != nil {
			t.Fatalf("%v: %v: %s", words, err, out)
		}
	}
	id, asked := symbol.BuildIDOf(program), 0
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked++
		if r.URL.Path != "/buildid/"+id+"/debuginfo" {
			w.WriteHeader(http.StatusNotFound)
			return
		}
		http.ServeFile(w, r, debug)
	}))
	defer server.Close()
	if r := entelon(t, "take", "--out", file, "--", program); r.code != 0 || !strings.Contains(r.stderr, "entelon symbols get "+file) {
		t.Fatalf("nothing says how to get the names: %s", r.stderr)
	}
	before := parse[reading.HotJSON](t, "hot", "--json", file)
	if err := os.Remove(program); err != nil {
		t.Fatal(err)
	}

	r := entelon(t, "symbols", file)
	if asked != 0 || !strings.Contains(r.stdout, "not found here") || !strings.Contains(r.stdout, "entelon symbols get "+file) {
		t.Errorf("asked %d times: %s%s", asked, r.stdout, r.stderr)
	}
	if r = entelon(t, "symbols", "get", "--no-packages", file); r.code != 0 || !strings.Contains(r.stdout, "no debug server was given") || !strings.Contains(r.stdout, "was not changed") {
		t.Errorf("%d: %s%s", r.code, r.stdout, r.stderr)
	}
	r = entelon(t, "symbols", "get", "--no-packages", "--debug-server", server.URL, file)
	if r.code != 0 || !strings.Contains(r.stdout, file+".1") || asked == 0 {
		t.Fatalf("%d, asked %d times: %s%s", r.code, asked, r.stdout, r.stderr)
	}
	after := parse[reading.HotJSON](t, "hot", "--json", file)
	named := map[string]int64{}
	for _, f := range after.Functions {
		named[f.Name] = f.Self
		if strings.HasPrefix(f.Name, "inkraster+0x") {
			t.Errorf("%s has no name yet", f.Name)
		}
	}
	if after.Total != before.Total || after.Samples != before.Samples || 2*named["space_measures"] < after.Total || 10*named["group_beams"] < after.Total {
		t.Errorf("%d and %d became %d and %d: %v", before.Total, before.Samples, after.Total, after.Samples, named)
	}
	for _, w := range parse[reading.FactsJSON](t, "facts", "--json", file).Warnings {
		if w.Code == "unnamed" || w.Code == "debug-files" {
			t.Errorf("%+v", w)
		}
	}
	if old := parse[reading.HotJSON](t, "hot", "--json", file+".1"); old.Total != before.Total {
		t.Error("the take as it was is not beside it")
	}
	if r = entelon(t, "symbols", "get", "--no-packages", file); r.code != 0 || !strings.Contains(r.stdout, "was not changed") {
		t.Errorf("a second time: %d: %s%s", r.code, r.stdout, r.stderr)
	}
	list := parse[[]symbols.FileOut](t, "symbols", "--json", file)
	found := false
	for _, f := range list {
		found = found || f.BuildID == id && f.Names != "" && f.Unnamed == 0 && f.Share > 0.9
	}
	if !found {
		t.Errorf("%+v", list)
	}
}
