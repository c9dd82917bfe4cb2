package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"entelon/cmd/entelon/reading"
	"entelon/codec/take"
)

const ownProgram = `#include "ties.h"
int main(void) {
	volatile unsigned n = 0;
	for (int i = 0; i < 60000000; i++) n += ties(i);
	return n == 1;
}
`

const ownHeader = `static inline __attribute__((noinline)) unsigned ties(unsigned x) {
	return x * 2654435761u >> 3;
}
`

// A take brings the source of the program's own functions, by the names that
// the program's lines have for them, and says what it could not bring.
func TestWithSource(t *testing.T) {
	mustSample(t)
	dir := t.TempDir()
	for name, text := range map[string]string{"tune.c": ownProgram, "ties.h": ownHeader} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	build := exec.Command("cc", "-g", "-O1", "-ffile-prefix-map="+dir+"=shop/build", "-o", "tune", filepath.Join(dir, "tune.c"))
	build.Dir = dir
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	// The paths begin with folders that are not there, as those of a build
	// elsewhere do: the rest is below the folder of the command.
	if err := os.MkdirAll(filepath.Join(dir, "build"), 0o755); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"tune.c", "ties.h"} {
		if err := os.Rename(filepath.Join(dir, name), filepath.Join(dir, "build", name)); err != nil {
			t.Fatal(err)
		}
	}
	file := filepath.Join(dir, "x.take")
	sample := func() map[string]string {
		if r := entelon(t, "take", "--with-source", "--dir", dir, "--out", file, "--", filepath.Join(dir, "tune")); r.code != 0 {
			t.Fatal(r.stderr)
		}
		x, err := take.ReadFile(file, take.Options{})
		if err != nil {
			t.Fatal(err)
		}
		got := map[string]string{}
		for _, s := range x.Sources {
			got[filepath.Base(s.Path)] = s.Text
		}
		return got
	}
	if got := sample(); got["tune.c"] != ownProgram || got["ties.h"] != ownHeader {
		t.Errorf("the take brought %q", got)
	}
	// A file that is not for everybody is not delivered to everybody.
	if err := os.Chmod(filepath.Join(dir, "build", "ties.h"), 0o600); err != nil {
		t.Fatal(err)
	}
	got := sample()
	if _, there := got["ties.h"]; there || got["tune.c"] != ownProgram {
		t.Errorf("the take brought %q", got)
	}
	var said string
	for _, w := range parse[reading.FactsJSON](t, "facts", "--json", file).Warnings {
		if w.Code == "source" {
			said = w.Text
		}
	}
	if !strings.Contains(said, "ties.h") {
		t.Errorf("what is missing was not said: %q", said)
	}
}
