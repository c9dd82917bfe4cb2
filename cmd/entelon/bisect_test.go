package main

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// in runs commands in a folder, as a developer whose settings of git are not this machine's, and
// returns what they print.
func in(t *testing.T, dir string) func(name string, args ...string) string {
	return func(name string, args ...string) string {
		t.Helper()
		cmd := exec.Command(name, args...)
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "GIT_AUTHOR_NAME=shop", "GIT_AUTHOR_EMAIL=shop@example.org", "GIT_COMMITTER_NAME=shop", "GIT_COMMITTER_EMAIL=shop@example.org", "GIT_CONFIG_GLOBAL=/dev/null")
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Fatalf("%s %v: %v: %s", name, args, err, out)
		}
		return strings.TrimSpace(string(out))
	}
}

// history makes a repository of the demo's engraver as it might have grown: the
// builds' sources, with revisions between that change nothing, one that does not
// build, and one that brings the slow slurs.
func history(t *testing.T) (dir, slow string) {
	t.Helper()
	dir = t.TempDir()
	sh := in(t, dir)
	put := func(path, text string) {
		t.Helper()
		path = filepath.Join(dir, path)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	commit := func(subject string) string {
		t.Helper()
		put("CHANGES", subject+"\n")
		sh("git", "add", "-A")
		sh("git", "commit", "-q", "-m", subject)
		return sh("git", "rev-parse", "HEAD")
	}
	sh("git", "init", "-q", "-b", "main")
	put("go.mod", "module entelon\n\ngo 1.26\n")
	if err := os.CopyFS(filepath.Join(dir, "demo", "engraved"), os.DirFS("../../demo/engraved")); err != nil {
		t.Fatal(err)
	}
	if err := os.Remove(filepath.Join(dir, "demo", "engraved", "engraved_test.go")); err != nil {
		t.Fatal(err)
	}
	put(".gitignore", "/engraved\n")
	put("tags", "")
	commit("3.4.0")
	for i := range 3 {
		commit(fmt.Sprintf("a line in the notes, %d", i))
	}
	put("demo/engraved/page/ornament.go", "package page\n\nfunc ornament() { not a program\n")
	commit("ornaments, unfinished")
	if err := os.Remove(filepath.Join(dir, "demo/engraved/page/ornament.go")); err != nil {
		t.Fatal(err)
	}
	commit("ornaments taken out")
	put("tags", "v350")
	slow = commit("lines under sung-out syllables")
	for i := range 3 {
		commit(fmt.Sprintf("a word in the notes, %d", i))
	}
	return dir, slow
}

// TestBisect: the revision that made the demo slower is found, with one that does
// not build left out; a second run knows it all and asks nothing; nothing is left
// behind in the repository.
func TestBisect(t *testing.T) {
	mustSample(t)
	dir, slow := history(t)
	run := func(args ...string) result {
		t.Helper()
		cmd := exec.Command(program("entelon"), append([]string{"bisect", "--good", "main~9", "--bad", "main",
			"--build", "go build -tags \"$(cat tags)\" -o engraved ./demo/engraved", "--run", "./engraved --scores 25"}, args...)...)
		cmd.Dir = dir
		return finish(t, cmd)
	}
	// Stopped in the middle, it goes on where it was.
	first := exec.Command(program("entelon"), "bisect", "--good", "main~9", "--build", "go build -tags \"$(cat tags)\" -o engraved ./demo/engraved", "--run", "./engraved --scores 25")
	first.Dir = dir
	said, err := first.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := first.Start(); err != nil {
		t.Fatal(err)
	}
	lines := bufio.NewScanner(said)
	for lines.Scan() && !strings.Contains(lines.Text(), " after ") {
	}
	time.Sleep(time.Second) // into the next step
	if err := first.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	if _, err := io.Copy(io.Discard, said); err != nil {
		t.Fatal(err)
	}
	if err := first.Wait(); err == nil {
		t.Error("a bisection that was stopped ended well")
	}

	r := run()
	if !strings.Contains(r.stderr, "resuming: ") {
		t.Errorf("what was known was forgotten: %s", r.stderr)
	}
	// A host that is busy with others may keep one step from being told, not more.
	if strings.Count(r.stderr, "undecided") > 1 {
		t.Errorf("so large a difference is not told: %s", r.stderr)
	}
	if r.code != 0 || !strings.Contains(r.stdout, "first slower revision: "+slow+" lines under sung-out syllables") {
		t.Fatalf("exit %d\n%s%s", r.code, r.stdout, r.stderr)
	}
	for _, want := range []string{"slur.lift", "regression"} {
		if !strings.Contains(r.stdout, want) {
			t.Errorf("its comparison is without %q:\n%s", want, r.stdout)
		}
	}
	steps := strings.Count(r.stderr, " after ") + strings.Count(r.stderr, "does not build")
	if steps > 6 {
		t.Errorf("%d of 9 revisions were asked about:\n%s", steps, r.stderr)
	}
	again := run()
	if again.code != 0 || strings.Contains(again.stderr, " after ") || !strings.Contains(again.stdout, slow) {
		t.Errorf("the second time: exit %d\n%s%s", again.code, again.stdout, again.stderr)
	}
	trees := exec.Command("git", "worktree", "list")
	trees.Dir = dir
	if out, err := trees.CombinedOutput(); err != nil || strings.Count(string(out), "\n") != 1 {
		t.Errorf("work trees are left: %v\n%s", err, out)
	}
	for want, args := range map[string][]string{
		"nothing to look for":               {"--function", "beam.cost", "--bad", "main~6", "--turns", "3"},
		"nowhere":                           {"--bad", "nowhere"},
		"is not before":                     {"--good", "main", "--bad", "main~2"},
		"quotes are not supported":          {"--run", "a 'b'"},
		"--turns 1":                         {"--turns", "1"},
		"the good revision cannot be built": {"--again", "--build", "false"},
	} {
		r := run(args...)
		lines := strings.Split(strings.TrimSpace(r.stderr), "\n")
		if last := lines[len(lines)-1]; r.code == 0 || !strings.Contains(last, want) {
			t.Errorf("%v: exit %d, %q does not say %q", args, r.code, last, want)
		}
	}
}
