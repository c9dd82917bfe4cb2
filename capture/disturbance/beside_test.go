package disturbance

import (
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"
	"time"

	"entelon/linux/procfs"
)

// TestSampledBeside: two takes that overlap know of each other, whichever ended first, and
// one that follows knows of neither.
func TestSampledBeside(t *testing.T) {
	var first, second, third Takes
	first.Begin()
	second.Begin()
	first.End()
	second.End()
	third.Begin()
	third.End()
	for i, b := range []*Takes{&first, &second} {
		if got := b.SampledBy(); got != "another take of this collector" {
			t.Errorf("%d: %q", i, got)
		}
	}
	if third.met {
		t.Error("the third met one that was over")
	}
}

// TestSampledByAnother: a take says what else sampled on the machine.
func TestSampledByAnother(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("needs root: descriptors of another user's processes are hidden")
	}
	other := exec.Command("../../bin/entelon", "take", "--out", t.TempDir()+"/x.take", "--", "sleep", "10")
	if err := other.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = other.Process.Kill(); _ = other.Wait() }()
	seen := func() bool {
		return slices.ContainsFunc(procfs.Samplers(os.Getpid(), 99), func(x procfs.Sampler) bool { return x.PID == other.Process.Pid && x.Name == "entelon" })
	}
	for range 100 {
		if seen() {
			var b Takes
			if got := b.SampledBy(); !strings.Contains(got, " (process ") {
				t.Errorf("%q", got)
			}
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Error("a take beside was never seen")
}
