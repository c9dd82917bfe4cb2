package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"entelon/linux/perf"
)

var bin string // folder with the programs under test

// TestMain builds entelon and the programs that it is tried on.
func TestMain(m *testing.M) {
	code, err := buildAndRun(m)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		code = 1
	}
	os.Exit(code)
}

func buildAndRun(m *testing.M) (int, error) {
	dir, err := os.MkdirTemp("", "entelon-cli-*")
	if err != nil {
		return 1, err
	}
	defer os.RemoveAll(dir)
	bin = dir
	c := func(name string, flags ...string) []string {
		return append([]string{"cc", "-O2", "-g", "-fno-omit-frame-pointer", "-pthread", "-o", filepath.Join(dir, name), "testdata/" + strings.Split(name, "-")[0] + "/" + strings.Split(name, "-")[0] + ".c"}, flags...)
	}
	for _, words := range [][]string{
		{"env", "CGO_ENABLED=0", "go", "build", "-o", filepath.Join(dir, "entelon"), "."}, // as make builds it
		{"go", "build", "-o", filepath.Join(dir, "goshares"), "./testdata/goshares"},
		{"go", "build", "-ldflags=-s -w", "-buildmode=pie", "-o", filepath.Join(dir, "goshares-stripped"), "./testdata/goshares"},
		{"go", "build", "-o", filepath.Join(dir, "goclock"), "./testdata/goclock"},
		c("shares"), c("shares-static", "-static"), c("shares-nopie", "-no-pie"), c("shares-stripped", "-s"),
		c("threads"), c("forks"),
	} {
		if out, err := exec.Command(words[0], words[1:]...).CombinedOutput(); err != nil {
			return 1, fmt.Errorf("%s: %w: %s", strings.Join(words, " "), err, out)
		}
	}
	// Names that another version left in the user's cache must not get in. The
	// builds above come first, since they have their cache there.
	if err := os.Setenv("XDG_CACHE_HOME", filepath.Join(dir, "cache")); err != nil {
		return 1, err
	}
	return m.Run(), nil
}

func program(name string) string { return filepath.Join(bin, name) }

// result is how a command ended.
type result struct {
	stdout, stderr string
	code           int
}

func entelon(t testing.TB, args ...string) result {
	t.Helper()
	return finish(t, exec.Command(program("entelon"), args...))
}

func finish(t testing.TB, cmd *exec.Cmd) result {
	t.Helper()
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatalf("%v: %v", cmd.Args, err)
	}
	return result{out.String(), errs.String(), cmd.ProcessState.ExitCode()}
}

// mustSample leaves a test out where the kernel forbids what it is about.
func mustSample(t testing.TB) {
	t.Helper()
	if err := perf.Allowed(); err != nil {
		t.Skip(err)
	}
}

// parse runs a command that prints JSON.
func parse[T any](t testing.TB, args ...string) T {
	t.Helper()
	r := entelon(t, args...)
	if r.code != 0 {
		t.Fatalf("entelon %v: exit code %d: %s", args, r.code, r.stderr)
	}
	var v T
	d := json.NewDecoder(strings.NewReader(r.stdout))
	d.DisallowUnknownFields()
	if err := d.Decode(&v); err != nil {
		t.Fatalf("entelon %v: %v", args, err)
	}
	return v
}

// fails expects one clear line and a non-zero exit code.
func fails(t testing.TB, r result, words ...string) {
	t.Helper()
	if r.code == 0 {
		t.Errorf("it ended well: %s", r.stdout)
	}
	if n := strings.Count(r.stderr, "\n"); n != 1 || !strings.HasPrefix(r.stderr, "entelon: ") {
		t.Errorf("it did not say one line but %q", r.stderr)
	}
	for _, w := range words {
		if !strings.Contains(r.stderr, w) {
			t.Errorf("%q does not say %q", r.stderr, w)
		}
	}
}
