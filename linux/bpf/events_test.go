package bpf

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/cilium/ebpf"
	"golang.org/x/sys/unix"

	"entelon/linux"
	"entelon/linux/perf"
)

// The kernel lets none of these programs be run by hand (BPF_PROG_TEST_RUN), so they
// run on real events here.

const copiedByKernel = 4 << 10

func newReader(t *testing.T) *StackReader {
	t.Helper()
	types, err := KernelTypes(nil)
	if err != nil {
		t.Skip(err)
	}
	cpus, err := perf.Processors()
	if err != nil {
		t.Fatal(err)
	}
	r, err := NewStackReader(cpus, types, StackOptions{StackBytes: copiedByKernel})
	if errors.Is(err, ErrNotRoot) {
		t.Skip(err)
	}
	if err != nil {
		t.Fatalf("%+v", err)
	}
	t.Cleanup(func() {
		if err := r.Close(); err != nil {
			t.Error(err)
		}
	})
	return r
}

// found is a record of the program.
type found struct {
	tid uint32
	Header
	body []byte
}

// sampled samples a process for a time and returns what the program wrote.
func sampled(t *testing.T, r *StackReader, pid int, long time.Duration) (out []found) {
	t.Helper()
	cpus, err := perf.Processors()
	if err != nil {
		t.Fatal(err)
	}
	a := perf.Attributes(perf.Clock{RateHz: 997, StackBytes: copiedByKernel})
	var rings []*perf.Ring
	for i, cpu := range cpus {
		fd, err := perf.Open(a, pid, cpu, 0)
		if errors.Is(err, linux.ErrNotAllowed) {
			t.Skip(err)
		}
		if err != nil {
			t.Fatal(err)
		}
		defer unix.Close(fd)
		if err := r.Attach(fd); err != nil {
			t.Fatal(err)
		}
		ring, err := perf.MapRing(r.Events[i], 8<<20)
		if err != nil {
			t.Fatal(err)
		}
		defer ring.Close()
		rings = append(rings, ring)
		if err := unix.IoctlSetInt(fd, unix.PERF_EVENT_IOC_ENABLE, 0); err != nil {
			t.Fatal(err)
		}
	}
	time.Sleep(long)
	for _, ring := range rings {
		err := perf.SplitRecords(ring.Drain(nil), func(id uint64) bool { return r.IDs[id] }, func(x perf.Record) {
			if x.Kind != perf.RecordOther {
				return
			}
			h, body, ok := Decode(x.Body)
			if !ok {
				t.Errorf("a record of %d bytes is broken", len(x.Body))
			}
			out = append(out, found{x.TID, h, body})
		})
		if err != nil {
			t.Error(err)
		}
	}
	return out
}

// compiled builds a C program and starts it.
func compiled(t *testing.T, source string) int {
	t.Helper()
	path := filepath.Join(t.TempDir(), "program")
	cmd := exec.Command("cc", "-O1", "-x", "c", "-o", path, "-")
	in, err := cmd.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	go func() { _, _ = in.Write([]byte(source)); _ = in.Close() }()
	if b, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, b)
	}
	run := exec.Command(path)
	if err := run.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = run.Process.Kill(); _ = run.Wait() })
	return run.Process.Pid
}

// deepSource fills its stack with 60 frames of 500 bytes and works in the innermost.
const deepSource = `
volatile double sum;
__attribute__((noinline)) void ledger(int n) {
	volatile char line[480];
	line[0] = n;
	if (n == 0)
		for (;;) sum += 1;
	ledger(n - 1);
	line[1] = 1;
}
int main() { ledger(60); }
`

// TestDeepStack: what the kernel does not copy of a deep stack is copied, up to where
// the stack begins, in one piece.
func TestDeepStack(t *testing.T) {
	pid := compiled(t, deepSource)
	records := sampled(t, newReader(t), pid, 300*time.Millisecond)
	var end uint64
	whole := 0
	for _, x := range records {
		if x.Kind != KindStack {
			continue
		}
		if x.Addr == end {
			whole++
		}
		end = x.Addr + x.Length
	}
	if len(records) < 100 || whole < len(records)/3 {
		t.Errorf("%d records, %d of them go on where the one before ends", len(records), whole)
	}
	for _, x := range records {
		if x.Length > 16<<10 || x.Length != uint64(len(x.body)) {
			t.Fatalf("a record has %d bytes", x.Length)
		}
	}
}

// signalSource works in a signal handler that has a stack of its own.
const signalSource = `
#include <signal.h>
#include <stdlib.h>
volatile double sum;
void handler(int n) { for (;;) sum += n; }
__attribute__((noinline)) void below(void) { volatile char mark[64]; mark[0] = 1; raise(SIGUSR1); mark[1] = 1; }
int main() {
	stack_t s = {.ss_sp = malloc(1 << 16), .ss_size = 1 << 16};
	sigaltstack(&s, 0);
	struct sigaction a = {.sa_handler = handler, .sa_flags = SA_ONSTACK};
	sigaction(SIGUSR1, &a, 0);
	below();
}
`

// TestSignalStack: the stack that a signal interrupted is copied, which lies elsewhere.
func TestSignalStack(t *testing.T) {
	pid := compiled(t, signalSource)
	records := sampled(t, newReader(t), pid, 300*time.Millisecond)
	low, high, err := stackOf(pid)
	if err != nil {
		t.Fatal(err)
	}
	within := 0
	for _, x := range records {
		if x.Kind == KindStack && x.Addr >= low && x.Addr < high && x.Length > 64 {
			within++
		}
	}
	if within < 100 {
		t.Errorf("%d of %d records are of the main stack", within, len(records))
	}
}

// stackOf reads where a process has its main stack.
func stackOf(pid int) (low, high uint64, err error) {
	b, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/maps")
	if err != nil {
		return 0, 0, err
	}
	for line := range strings.Lines(string(b)) {
		if strings.HasSuffix(strings.TrimSpace(line), "[stack]") {
			_, err := fmt.Sscanf(line, "%x-%x", &low, &high)
			return low, high, err
		}
	}
	return 0, 0, errors.New("it has no stack")
}

// TestAllLoad: the kernel accepts the programs for each kind of event.
func TestAllLoad(t *testing.T) {
	r := newReader(t)
	if err := r.Python.load(); err != nil {
		t.Fatalf("%+v", err)
	}
	for _, kind := range []ebpf.ProgramType{ebpf.TracePoint, ebpf.Kprobe} {
		if _, err := r.Traced(kind, 6<<10, true); err != nil {
			t.Errorf("%+v", err)
		}
	}
	c, err := NewCounter(r.types)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c.Program(3); err != nil {
		t.Errorf("%+v", err)
	}
	if err := c.Close(); err != nil {
		t.Error(err)
	}
}
