package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"entelon/cmd/entelon/reading"
	"entelon/judge"
)

// TestLabelsAreSpans: parts of its work that a Go program names by labels are spans of its goroutines, as
// often and as long as the program itself says, stripped or not.
func TestLabelsAreSpans(t *testing.T) {
	mustSample(t)
	if os.Geteuid() != 0 {
		t.Skip("goroutines are followed by root")
	}
	for _, flags := range []string{"", "-s -w"} {
		exe := filepath.Join(t.TempDir(), "labels")
		if b, err := exec.Command("go", "build", "-ldflags", flags, "-o", exe, "./testdata/labels").CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, b)
		}
		judge.Fairly(t, func(t *judge.Try) { labelSpans(t, exe) })
	}
}

func labelSpans(t *judge.Try, exe string) {
	file := filepath.Join(t.TempDir(), "x.take")
	r := entelon(t.T, "take", "--measure", "cpu", "--measure", "waiting", "--measure", "goroutines", "--out", file, "--", exe)
	if r.code != 0 {
		t.Fatal(r.stderr)
	}
	said := map[string]reading.SpanNameJSON{}
	for _, n := range parse[reading.SpansJSON](t.T, "spans", file, "--json").Names {
		said[n.Name] = n
	}
	names := 0
	for line := range strings.Lines(r.stdout) {
		var n int
		var ns int64
		if k, _ := fmt.Sscanf(line, "%d %d", &n, &ns); k != 2 {
			continue
		}
		names++
		name := strings.TrimSuffix(strings.SplitN(line, " ", 3)[2], "\n")
		if len(name) > 96 {
			name = name[:96] + "…"
		}
		got := said[name]
		if got.Spans != n || got.Open != 0 {
			t.Errorf("%s: %d spans, %d of them open, want %d", name, got.Spans, got.Open, n)
		}
		// By the program's clock each takes longer by what its own labels cost, and the probe in them.
		if d := ns - got.Total; ns > 0 && (d < -ns/50 || d > ns/50+int64(n)*25_000) {
			t.Errorf("%s took %d ns, and is said to have taken %d", name, ns, got.Total)
		}
		if ns == 0 && (got.Total < int64(n)*3_000_000 || got.Total > int64(n)*6_000_000) {
			t.Errorf("%s, which goroutines ended in, took %d ns", name, got.Total)
		}
	}
	if names != 4 || len(said) != 4 {
		t.Errorf("%d names, and the take has %d: %v", names, len(said), r.stdout)
	}
}
