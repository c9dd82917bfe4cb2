package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"

	"entelon/cmd/entelon/reading"
	"entelon/judge"
)

// TestChecks: what is doubtful about how a take ran is said, and nothing is
// said of a run that was as it should be.
func TestChecks(t *testing.T) {
	mustSample(t)
	dir := t.TempDir()
	source := filepath.Join(dir, "x.c")
	if err := os.WriteFile(source, []byte("#include <time.h>\nvolatile double x;\nint main(void) { double end = clock() + 1.2 * CLOCKS_PER_SEC; while (clock() < end) for (int i = 0; i < 100000; i++) x += i; return 0; }\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, flags := range [][]string{{"-O0", "-g", "-o", filepath.Join(dir, "slow")}, {"-O2", "-g", "-o", filepath.Join(dir, "fast")}} {
		if out, err := exec.Command("cc", append(flags, source)...).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
	}
	goSource := filepath.Join(dir, "main.go")
	if err := os.WriteFile(goSource, []byte("package main\n\nfunc main() {}\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("go", "build", "-gcflags=-N -l", "-o", filepath.Join(dir, "gone"), goSource).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	for _, c := range []struct {
		command []string
		has     []string
		lacks   []string
	}{
		{[]string{filepath.Join(dir, "slow")}, []string{"unoptimised"}, []string{"idle", "ended-at-once"}},
		{[]string{filepath.Join(dir, "fast")}, nil, []string{"unoptimised", "idle", "ended-at-once"}},
		{[]string{filepath.Join(dir, "gone")}, []string{"unoptimised", "ended-at-once"}, []string{"idle"}},
		{[]string{"sleep", "1.3"}, []string{"idle"}, []string{"unoptimised", "ended-at-once"}},
	} {
		judge.Fairly(t, func(t *judge.Try) {
			file := filepath.Join(dir, "x.take")
			if r := entelon(t, append([]string{"take", "--out", file, "--"}, c.command...)...); r.code != 0 {
				t.Fatal(r.stderr)
			}
			var codes []string
			for _, w := range parse[reading.FactsJSON](t, "facts", "--json", file).Warnings {
				codes = append(codes, w.Code)
				if w.Text == "" || w.Remedy == "" {
					t.Errorf("%s has no text or no remedy", w.Code)
				}
			}
			for _, want := range c.has {
				if !slices.Contains(codes, want) {
					t.Errorf("%v: %v lacks %s", c.command, codes, want)
				}
			}
			for _, not := range c.lacks {
				if slices.Contains(codes, not) && !(not == "idle" && slices.Contains(codes, "busy")) {
					t.Errorf("%v: %v has %s", c.command, codes, not)
				}
			}
		})
	}
}
