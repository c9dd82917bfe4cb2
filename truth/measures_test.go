package truth

import (
	"bytes"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"entelon/codec/take"
	"entelon/core/calltree"
	"entelon/core/profile"
	"entelon/core/scope"
)

// built compiles a program of the measures with the C compiler.
func built(t *testing.T, name string, flags ...string) string {
	t.Helper()
	out := filepath.Join(t.TempDir(), name)
	args := append([]string{"-O1", "-g", "-o", out, "truth/programs/measures/" + name + ".c"}, flags...)
	if err := run("cc", args...); err != nil {
		t.Fatal(err)
	}
	return out
}

// takeOf runs entelon take and returns the take and what the program printed.
func takeOf(t *testing.T, entelon string, args ...string) (*profile.Take, string) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "x.take")
	cmd := exec.Command(entelon, append([]string{"take", "--out", file}, args...)...)
	var out, says bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &says
	if err := cmd.Run(); err != nil {
		t.Fatalf("%v: %s", err, says.String())
	}
	x, err := take.ReadFile(file, take.Options{})
	if err != nil {
		t.Fatal(err)
	}
	if x.Facts.Lost > 0 {
		t.Logf("%d records were lost", x.Facts.Lost)
	}
	return x, out.String()
}

// under sums a measure over the samples that pass through a function, by the
// function at their inner end; "" is all of them.
func under(t *testing.T, x *profile.Take, measure, function string) (sum int64, leaves map[string]int64) {
	t.Helper()
	m, err := x.Profile.MeasureNamed(measure)
	if err != nil {
		t.Fatal(err)
	}
	leaves = map[string]int64{}
	p := x.Profile
	for i, s := range p.Samples.Stack {
		in := false
		p.Walk(s, func(f profile.FrameID) { in = in || p.FunctionName(p.Frames[f].Function) == function })
		if v := p.Samples.Values[m][i]; in {
			sum += v
			leaves[p.FunctionName(p.FunctionOf(s))] += v
		}
	}
	return sum, leaves
}

// TestWaiting: waiting for a lock, for a timer and for input has the share that
// the program measured itself, within 2 %, and the right reason.
func TestWaiting(t *testing.T) {
	entelon := builtEntelon(t)
	program := built(t, "desk", "-pthread")
	var last string
	for range 4 { // what a busy machine adds to a wait is not the program's
		x, out := takeOf(t, entelon, "--measure", "waiting", "--", program)
		last = ""
		for _, line := range strings.Split(strings.TrimSpace(out), "\n") {
			name, text, _ := strings.Cut(line, " ")
			want, err := strconv.ParseFloat(text, 64)
			if err != nil {
				t.Fatal(err)
			}
			reason := map[string]string{"fetch": "[waits for a lock]", "dry": "[sleeps]", "feed": "[waits for input]"}[name]
			sum, leaves := under(t, x, "waiting", name)
			if _, held := under(t, x, "waiting", "hold"); name == "fetch" {
				for _, v := range held { // sleeping with the lock is not waiting for it
					sum -= v
				}
			}
			got := float64(sum) / 1e9
			if off := math.Abs(got-want) / want; off > 0.02 {
				last += fmt.Sprintf("%s: the program waited %.4f s, the take has %.4f s, %.1f %% off; ", name, want, got, 100*off)
			}
			if share := float64(leaves[reason]+leaves["[waits for a processor]"]) / float64(max(1, sum)); share < 0.98 {
				t.Errorf("%s: %v", name, leaves)
			}
		}
		if last == "" {
			m, err := x.Profile.MeasureNamed("waiting")
			if err != nil || !x.Profile.Measures[m].Counted {
				t.Error("waiting is not said to be counted")
			}
			return
		}
	}
	t.Error(last)
}

// TestAllocations: allocations by stack agree with an allocator that counts,
// call by call and byte by byte, in threads and child processes; page faults,
// system calls, calls of a function and a tracepoint are counted exactly.
func TestAllocations(t *testing.T) {
	entelon := builtEntelon(t)
	program := built(t, "plates", "-pthread", "-rdynamic")
	library := filepath.Join(t.TempDir(), "counting.so")
	if err := run("cc", "-O1", "-g", "-shared", "-fPIC", "-pthread", "-o", library, "truth/programs/measures/counting.c", "-ldl"); err != nil {
		t.Fatal(err)
	}
	counts := filepath.Join(t.TempDir(), "counts")
	if err := run("env", "LD_PRELOAD="+library, "PLATES="+counts, program); err != nil {
		t.Fatal(err)
	}
	x, _ := takeOf(t, entelon, "--measure", "allocations", "--measure", "faults", "--measure", "syscalls", "--measure", "function:copper", "--measure", "tracepoint:sched:sched_process_fork", "--", program)
	b, err := os.ReadFile(counts)
	if err != nil {
		t.Fatal(err)
	}
	calls, size := map[string]int64{}, map[string]int64{}
	for _, line := range strings.Split(strings.TrimSpace(string(b)), "\n") {
		var name string
		var n, bytes int64
		if _, err := fmt.Sscan(line, &name, &n, &bytes); err != nil {
			t.Fatal(err)
		}
		calls[name] += n
		size[name] += bytes
	}
	for _, name := range []string{"copper", "zinc", "steel", "brass"} {
		if calls[name] < 400 {
			t.Fatalf("the allocator counted %d calls from %s", calls[name], name)
		}
		got, _ := under(t, x, "allocations", name)
		bytes, _ := under(t, x, "allocated", name)
		if got != calls[name] || bytes != size[name] {
			t.Errorf("%s: %d allocations of %d bytes, the allocator counted %d of %d", name, got, bytes, calls[name], size[name])
		}
	}
	if n, _ := under(t, x, "faults", "polish"); n != 700 {
		t.Errorf("%d page faults for 700 fresh pages", n)
	}
	if n, leaves := under(t, x, "syscalls", "call"); n != 900 || leaves["[system call write]"] != 900 {
		t.Errorf("%d system calls, %v; the program made 900", n, leaves)
	}
	if n, _ := under(t, x, "function:copper", "copper"); n != 5 {
		t.Errorf("copper was called %d times, not 5", n)
	}
	if n, _ := under(t, x, "tracepoint:sched:sched_process_fork", "main"); n != 4 {
		t.Errorf("%d threads and processes were made, not 4", n)
	}
	tr := calltree.New(x.Profile)
	for m := range x.Profile.Measures {
		if c := tr.Cost(m, scope.Scope{}); c.Total(0) != x.Profile.Total(m) {
			t.Errorf("%s: the tree has %d of %d", x.Profile.Words(m).Name, c.Total(0), x.Profile.Total(m))
		}
	}
}
