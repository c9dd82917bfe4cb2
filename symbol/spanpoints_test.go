package symbol

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"entelon/core/profile"
)

// made builds a file with a command that names it last, and opens it.
func made(t *testing.T, command ...string) *Object {
	t.Helper()
	path := filepath.Join(t.TempDir(), "x")
	if b, err := exec.Command(command[0], append(command[1:], "-o", path)...).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, b)
	}
	return opened(t, path, profile.KindOwn)
}

func defined(t *testing.T, o *Object, name string) Defined {
	t.Helper()
	all, err := FunctionsByName(o, name)
	if err != nil || len(all) != 1 {
		t.Fatalf("%s: %v, %d functions", name, err, len(all))
	}
	return all[0]
}

// TestScheduleOfStripped: where goroutines wait and run is found without symbols, too, and at any address.
func TestScheduleOfStripped(t *testing.T) {
	program := filepath.Join(t.TempDir(), "main.go")
	if err := os.WriteFile(program, []byte("package main\n\nfunc main() { go println(1); println(2) }\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	build := func(flags ...string) *Object {
		return made(t, append([]string{"go", "-C", filepath.Dir(program), "build"}, flags...)...)
	}
	if err := os.WriteFile(filepath.Join(filepath.Dir(program), "go.mod"), []byte("module shop\n\ngo 1.24\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	whole, err := GoScheduleOf(build())
	if err != nil {
		t.Fatal(err)
	}
	for name, flags := range map[string][]string{"stripped": {"-ldflags", "-s -w"}, "position-independent": {"-buildmode", "pie"}, "both": {"-buildmode", "pie", "-ldflags", "-s -w"}} {
		g, err := GoScheduleOf(build(flags...))
		if err != nil || g.Number != whole.Number || g.Parks == 0 || g.Ready == 0 || g.Runs == 0 || g.Ends == 0 {
			t.Errorf("%s: %v, %+v, want the number at %d", name, err, g, whole.Number)
		}
	}
	if _, err := GoScheduleOf(made(t, "cc", "-O1", "testdata/ends.c")); !errors.Is(err, ErrNoGo) {
		t.Errorf("of C: %v", err)
	}
}

// TestWhereFunctionsEnd: returns, jumps to other functions, and what cannot be followed, in hand-written code.
func TestWhereFunctionsEnd(t *testing.T) {
	o := made(t, "cc", "-O1", "testdata/ends.c")
	for name, want := range map[string]struct {
		ends  int
		jumps bool
		err   error
	}{
		"one_return": {1, false, nil}, "two_returns": {2, false, nil}, "jumps_on": {1, false, nil}, "jumps_on_condition": {1, true, nil},
		"begins_with_loop": {0, false, ErrLoops}, "never_ends": {0, false, ErrNoEnds},
	} {
		p, err := SpanPointsOf(o, defined(t, o, name))
		if !errors.Is(err, want.err) {
			t.Errorf("%s: %v, want %v", name, err, want.err)
		}
		if err == nil && (len(p.Ends) != want.ends || p.JumpsAway != want.jumps || p.Go) {
			t.Errorf("%s: %+v, want %+v", name, p, want)
		}
	}
}
