package exact

import (
	"fmt"
	"io"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
)

// TestMoreContextsThanRoom: of a program with more chains of callers than there is room for, calls
// and what functions cost themselves are whole, it is said how much stands alone, and the memory is
// bounded.
func TestMoreContextsThanRoom(t *testing.T) {
	program := built(t, "gcc", "contexts.c", "-O1")
	// A child's memory begins as its parent's, which is small as yet.
	alone := exec.Command(emulators[own], "-cpu", "max", program)
	if err := alone.Run(); err != nil {
		t.Fatal(err)
	}
	r, err := Once(Options{Command: []string{program}, Stdout: io.Discard})
	if err != nil || r.Code != 0 {
		t.Fatalf("%v, %+v", err, r)
	}
	c := r.Processes[0]
	if c.Merged == 0 || c.Flat == 0 || c.Uncounted != 0 {
		t.Errorf("%d calls and %d blocks stand alone, %d are not counted", c.Merged, c.Flat, c.Uncounted)
	}
	p := Profile(filepath.Base, r.Processes, Memory{}, opened(t))
	calls, instructions := byFunction(p, "calls"), byFunction(p, "instructions")
	each := instructions["f0"] / 2
	for k := range 20 {
		name, n := fmt.Sprintf("f%d", k), int64(2)<<k
		if calls[name] != n || instructions[name] != n*each || each < 8 {
			t.Errorf("%s: %d calls and %d instructions, not %d and %d", name, calls[name], instructions[name], n, n*each)
		}
	}
	if n := int64(2) << 20; calls["f20"] != n {
		t.Errorf("f20: %d calls, not %d", calls["f20"], n)
	}
	above := r.MemoryB - alone.ProcessState.SysUsage().(*syscall.Rusage).Maxrss<<10
	t.Logf("%d MB above the emulator", above>>20)
	if above > maxAboveMB<<20 {
		t.Errorf("%d MB above the emulator", above>>20)
	}
}

// maxAboveMB is what the tables of a process take at most, with the indexes of its threads.
const maxAboveMB = 200
