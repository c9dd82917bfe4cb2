package launch

import (
	"bytes"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"

	"entelon/core/profile"
)

// TestLauncherIsCurrent makes the launcher anew and finds it as it is committed.
func TestLauncherIsCurrent(t *testing.T) {
	if runtime.GOARCH != "amd64" {
		t.Skip("there is a launcher for amd64 only")
	}
	source, err := os.ReadFile("launcher_amd64.go")
	if err != nil {
		t.Fatal(err)
	}
	_, line, _ := strings.Cut(string(source), "//go:generate ")
	line, _, _ = strings.Cut(line, "\n")
	words := strings.Fields(line)
	made := filepath.Join(t.TempDir(), "launcher")
	for i, w := range words {
		if w == "launcher_amd64" {
			words[i] = made
		}
	}
	if b, err := exec.Command(words[0], words[1:]...).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, b)
	}
	anew, err := os.ReadFile(made)
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(anew, launcher) {
		t.Error("launcher_amd64 is not what programs/launcher.c makes: run make generate")
	}
}

// TestBecomes: what is launched has its arguments, environment, folder and streams,
// none of the launcher's files, and its own exit code; both launchers do the same.
func TestBecomes(t *testing.T) {
	kept := launcher
	defer func() { launcher = kept }()
	for name, program := range map[string][]byte{"its own program": kept, "this program again": nil} {
		launcher = program
		var out bytes.Buffer
		c, err := Start(Options{
			Settings: profile.Settings{Command: []string{"sh", "-c", `echo "$1" "$VOICE"; pwd; for f in 3 4 5; do [ -e /proc/$$/fd/$f ] && echo file $f; done; exit 7`, "sh", "two words"}, Dir: "/", Env: []string{"VOICE=alto"}, AsIs: true},
			Stdout:   &out, Stderr: io.Discard,
		})
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		if err := c.Begin(); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		<-c.Done
		if want := "two words alto\n/\n"; out.String() != want || c.Code != 7 {
			t.Errorf("%s: %q, code %d; want %q", name, out.String(), c.Code, want)
		}
	}
}

// TestDoesNotBecome: why a command cannot be executed is told, and a launcher that is
// given up ends.
func TestDoesNotBecome(t *testing.T) {
	path := filepath.Join(t.TempDir(), "page")
	if err := os.WriteFile(path, []byte("no program\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	kept := launcher
	defer func() { launcher = kept }()
	for name, program := range map[string][]byte{"its own program": kept, "this program again": nil} {
		launcher = program
		c, err := Start(Options{Settings: profile.Settings{Command: []string{path}, AsIs: true}})
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		if err := c.Begin(); !errors.Is(err, ErrNoCommand) || !errors.Is(err, syscall.ENOEXEC) || c.Code != 127 {
			t.Errorf("%s: %v, code %d", name, err, c.Code)
		}
		if c, err = Start(Options{Settings: profile.Settings{Command: []string{"true"}, AsIs: true}}); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		if err := c.Abandon(); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
}
