package capture

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"entelon/linux/tracefs"
	"entelon/runtimes"
	"entelon/symbol"
)

// TestTracepointsThatLeadElsewhere: a name becomes a path below the kernel's list,
// and nothing else is read, nor told of.
func TestTracepointsThatLeadElsewhere(t *testing.T) {
	dir := t.TempDir()
	if err := os.MkdirAll(filepath.Join(dir, "point"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "point", "id"), []byte("a secret"), 0o600); err != nil {
		t.Fatal(err)
	}
	tr, err := tracefs.Open()
	if err != nil {
		t.Skip(err)
	}
	defer tr.Close()
	for _, group := range []string{"../../../../../.." + dir, "..", "sched/..", "", "a b", "x\n"} {
		_, err := tr.Find(group, "point")
		if !errors.Is(err, tracefs.ErrTracepoint) || strings.Contains(err.Error(), "secret") {
			t.Errorf("%q: %v", group, err)
		}
	}
	if _, err := tr.Find("sched", "sched_process_fork"); err != nil {
		t.Error(err)
	}
}

// TestFilesThatAreNone: what a program names as its script, its interpreter or its
// file may be a pipe that nobody writes to, or a device without an end.
func TestFilesThatAreNone(t *testing.T) {
	dir := t.TempDir()
	pipe := filepath.Join(dir, "pipe.py")
	if err := unix.Mkfifo(pipe, 0o600); err != nil {
		t.Fatal(err)
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		for _, path := range []string{pipe, "/dev/zero", dir} {
			if f, err := symbol.OpenRegular(path); err == nil {
				f.Close()
				t.Errorf("%s is opened", path)
			}
			if got := (runtimes.Script{Path: path}).Build(); got != "" {
				t.Errorf("%s is the build %q", path, got)
			}
			if got := runtimes.Shebang(path); got != "" {
				t.Errorf("%s is run by %q", path, got)
			}
			if _, err := symbol.Identify(path); err == nil {
				t.Errorf("%s is identified", path)
			}
		}
	}()
	select {
	case <-done:
	case <-time.After(10 * time.Second):
		t.Fatal("it waits for what never comes")
	}
}
