package capture

import (
	"entelon/symbol/elfimage"
	"path/filepath"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"entelon/runtimes"
	"entelon/symbol"
)

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
			if f, err := elfimage.OpenRegular(path); err == nil {
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
