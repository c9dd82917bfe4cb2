package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestBisectExact: a change of a third of a percent is found by one exact run of each side a step.
func TestBisectExact(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	sh := in(t, dir)
	sh("git", "init", "-q", "-b", "main")
	slow := ""
	for i, letter := range []int{60_000, 60_000, 60_000, 60_000, 60_000, 60_500, 60_500, 60_500} {
		text := fmt.Sprintf("// revision %d\n%s", i, strings.Replace(twoBuilds, "LETTER", fmt.Sprint(letter), 1))
		if err := os.WriteFile(filepath.Join(dir, "nib.c"), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		sh("git", "add", "-A")
		sh("git", "commit", "-q", "-m", fmt.Sprintf("revision %d", i))
		if i == 5 {
			slow = sh("git", "rev-parse", "HEAD")
		}
	}
	cmd := exec.Command(program("entelon"), "bisect", "--good", "main~7", "--bad", "main", "--build", "cc -O2 -g -o nib nib.c", "--run", "./nib 5", "--exact", "--threshold", "0.1%")
	cmd.Dir = dir
	r := finish(t, cmd)
	if r.code != 0 || !strings.Contains(r.stdout, "first slower revision: "+slow+" revision 5") || !strings.Contains(r.stdout, "letter") || strings.Contains(r.stderr, "undecided") {
		t.Fatalf("exit code %d\n%s%s", r.code, r.stdout, r.stderr)
	}
	if n := strings.Count(r.stderr, "after one exact run of each"); n < 3 || n > 4 {
		t.Errorf("%d steps: %s", n, r.stderr)
	}
}
