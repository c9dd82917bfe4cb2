package main

import (
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"entelon/judge"
)

// TestUntil: takes are made until enough is known and no longer, it is said how many more
// that will be, and what was decided is what a comparison of the takes says.
func TestUntil(t *testing.T) {
	mustSample(t)
	dir := t.TempDir()
	for name, letter := range map[string]string{"old": "110000", "new": "330000"} {
		cmd := exec.Command("cc", "-O2", "-g", "-DLETTER="+letter, "-x", "c", "-o", filepath.Join(dir, name), "-")
		cmd.Stdin = strings.NewReader(twoBuilds)
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
	}
	made := func(pattern string) int {
		files, err := filepath.Glob(filepath.Join(dir, pattern))
		if err != nil {
			t.Fatal(err)
		}
		return len(files)
	}
	judge.Fairly(t, func(t *judge.Try) {
		r := entelon(t, "take", "--until", "decided", "--against", filepath.Join(dir, "old"), "--out", filepath.Join(dir, "x.take"), "--", filepath.Join(dir, "new"), "400")
		if r.code != 0 || !strings.Contains(r.stderr, "decided, slower") || !strings.Contains(r.stderr, "take 1 of 20") {
			t.Errorf("exit code %d: %s", r.code, r.stderr)
		}
		if a, b := made("x-baseline-*.take"), made("x-candidate-*.take"); a != b || a < 3 || a > 10 {
			t.Errorf("%d and %d takes", a, b)
		}
		c := comparison(t, entelon(t, "compare", "--json", "--baseline", filepath.Join(dir, "x-baseline-*.take"), "--candidate", filepath.Join(dir, "x-candidate-*.take")))
		if c.Outcome != "regression" || c.Whole.Verdict != "slower" || c.Scale != "run" {
			t.Errorf("%s by %s: %+v", c.Outcome, c.Scale, c.Whole)
		}
		r = entelon(t, "take", "--until", "letter sure 20%", "--out", filepath.Join(dir, "y.take"), "--", filepath.Join(dir, "old"), "400")
		if n := made("y-*.take"); r.code != 0 || !strings.Contains(r.stderr, "letter is known to") || !strings.Contains(r.stderr, "which is enough") || n < 4 || n > 20 {
			t.Errorf("exit code %d, %d takes: %s", r.code, n, r.stderr)
		}
	})
	none := entelon(t, "take", "--until", "nobody sure 2%", "--out", filepath.Join(dir, "z.take"), "--", filepath.Join(dir, "old"), "50")
	if none.code != 1 || !strings.HasSuffix(none.stderr, "entelon: --until: nobody has no cost in 3 takes\n") {
		t.Errorf("exit code %d: %s", none.code, none.stderr)
	}
	r := entelon(t, "take", "--until", "sure 0.1%", "--repeat", "4", "--out", filepath.Join(dir, "w.take"), "--", filepath.Join(dir, "old"), "50")
	if r.code != 0 || made("w-*.take") != 4 || !strings.Contains(r.stderr, "was wanted. More takes can be allowed with --repeat") && !strings.Contains(r.stderr, "which is enough") {
		t.Errorf("exit code %d, %d takes: %s", r.code, made("w-*.take"), r.stderr)
	}
	for text, want := range map[string]string{"decided": "--against", "certain 2%": "sure 2%", "sure 2": "sure 2%"} {
		fails(t, entelon(t, "take", "--until", text, "--", "true"), "--until", want)
	}
	fails(t, entelon(t, "take", "--until", "sure 2%", "--pid", "1"), "--until", "--for")
	fails(t, entelon(t, "take", "--until", "sure 2%", "--for", "1s", "--pid", "1"), "--until", "name a function")
}
