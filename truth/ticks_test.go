package truth

import (
	"encoding/binary"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"entelon/codec/take"
	"entelon/linux/perf"
	"entelon/linux/procfs"
)

// control is an event of this test's own on a process, beside the sampler's: what the
// host of the machine takes away, it takes from both alike.
type control struct {
	fd   int
	ring *perf.Ring
}

func watch(t *testing.T, pid int) *control {
	t.Helper()
	a := perf.Attributes(perf.Clock{RateHz: 997, Kernel: true})
	a.Bits &^= unix.PerfBitInherit | unix.PerfBitDisabled
	fd, err := perf.Open(a, pid, -1, 0)
	if err != nil {
		t.Fatal(err)
	}
	ring, err := perf.MapRing(fd, 4<<20)
	if err != nil {
		t.Fatal(err)
	}
	return &control{fd, ring}
}

// ticks ends the watching and returns how many ticks came for each second of processor
// time that the kernel counted.
func (c *control) ticks(t *testing.T) float64 {
	t.Helper()
	if err := unix.IoctlSetInt(c.fd, unix.PERF_EVENT_IOC_DISABLE, 0); err != nil {
		t.Fatal(err)
	}
	var count [16]byte // and what was lost
	if _, err := unix.Read(c.fd, count[:]); err != nil {
		t.Fatal(err)
	}
	n := 0
	err := perf.SplitRecords(c.ring.Drain(nil), func(uint64) bool { return false }, func(r perf.Record) {
		if r.Kind == perf.RecordSample {
			n++
		}
	})
	if err != nil {
		t.Fatal(err)
	}
	if err := c.ring.Close(); err != nil {
		t.Error(err)
	}
	if err := unix.Close(c.fd); err != nil {
		t.Error(err)
	}
	return float64(n) / (float64(binary.NativeEndian.Uint64(count[:8])) / 1e9)
}

// TestTicks: a take has as many samples for each second of processor time as a bare
// event beside it has ticks, however much the host of this machine takes away. What it
// takes away in the moment between the beginning of the one and of the other is of one of
// them only, so it is tried three times.
func TestTicks(t *testing.T) {
	entelon := builtEntelon(t)
	spinner := exec.Command("sh", "-c", "while :; do :; done")
	if err := spinner.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = spinner.Process.Kill(); _ = spinner.Wait() }() // it works until it is killed
	const tries, takes, seconds = 3, 3, 2
	began, stolen := time.Now(), procfs.StolenTime()
	var shares []float64
	for range tries {
		var samples, ticks float64
		for range takes {
			own, beside := ticksOf(t, entelon, spinner.Process.Pid, seconds)
			samples, ticks = samples+own, ticks+beside
		}
		share := samples / ticks
		if shares = append(shares, share); share > 0.97 && share < 1.03 {
			t.Logf("%.3v", shares)
			return
		}
	}
	// A fault is in all tries alike; what comes from outside is not.
	lost, apart := float64(procfs.StolenTime()-stolen)/float64(time.Since(began)), slices.Max(shares)-slices.Min(shares)
	if lost > 0.2 && apart > 0.04 {
		t.Skipf("disturbed three times: the host took %.0f %% of a processor away, and for each tick that came there were %.3v samples", 100*lost, shares)
	}
	t.Errorf("for each tick that came there are %.3v samples, in three tries", shares)
}

// ticksOf makes a take of a process, and returns its samples and the ticks of the event
// beside it, each for a second of processor time.
func ticksOf(t *testing.T, entelon string, pid, seconds int) (own, beside float64) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "x.take")
	c := watch(t, pid)
	if out, err := exec.Command(entelon, "take", "--event", "cpu-clock", "--pid", strconv.Itoa(pid), "--for", strconv.Itoa(seconds)+"s", "--out", file).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	beside = c.ticks(t)
	x, err := take.ReadFile(file, take.Options{})
	if err != nil {
		t.Fatal(err)
	}
	own = float64(x.Facts.Samples) / (float64(x.Facts.CPUNS) / 1e9)
	if beside < 100 || own < 50 {
		t.Fatalf("%.0f and %.0f ticks a second", beside, own)
	}
	return own, beside
}
