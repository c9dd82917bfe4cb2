package programs

import (
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"
)

// TestOpenMap takes no map that another user or an earlier process has left.
func TestOpenMap(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("files of other users need root")
	}
	cmd := exec.Command("sleep", "30")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }()
	pid := uint32(cmd.Process.Pid)
	path := filepath.Join("/tmp", "perf-"+strconv.Itoa(int(pid))+".map")
	defer os.Remove(path)
	try := func(want string) {
		t.Helper()
		f, err := openMap(pid, time.Now())
		if err == nil {
			f.Close()
		}
		if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
	try("writes no map")
	if err := os.WriteFile(path, []byte("1000 10 x\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	try("")
	if err := os.Chtimes(path, time.Time{}, time.Now().Add(-time.Hour)); err != nil {
		t.Fatal(err)
	}
	try("earlier process")
	if err := os.Chtimes(path, time.Time{}, time.Now()); err != nil {
		t.Fatal(err)
	}
	if err := os.Chown(path, 65534, 65534); err != nil {
		t.Fatal(err)
	}
	try("another user")
}
