package guard

import (
	"flag"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"entelon/exact"
	"entelon/symbol"
)

var write = flag.Bool("accept", false, "accept what the loops cost now")

const file = "testdata/accepted.json"

// allowed is by what share a loop may cost more, and allowedElse where another compiler made the
// code. Runs of the same program differ by less than a tenth of the first.
const (
	allowed     = 0.01
	allowedElse = 0.1
)

// loops are Entelon's own, with the rooms in which they are.
var loops = map[string][]string{
	"tree": {"entelon/core/calltree.", "entelon/core/tally.", "entelon/core/keytable."},
	"walk": {"entelon/unwind.", "entelon/resolve."},
	"read": {"entelon/codec/take."},
}

// counted is what a loop costs.
func counted(t *testing.T, program, loop string) Figures {
	t.Helper()
	root, err := filepath.Abs("..")
	if err != nil {
		t.Fatal(err)
	}
	r, err := exact.Once(exact.Options{Command: []string{program, loop, root}, Env: []string{"GOMAXPROCS=1", "GOGC=off", "GODEBUG=asyncpreemptoff=1"}, Stdout: io.Discard, Stderr: os.Stderr})
	if err != nil {
		t.Fatalf("%s: %v", loop, err)
	}
	if r.Code != 0 {
		t.Fatalf("%s: exit code %d", loop, r.Code)
	}
	objects := exact.NewObjects(&symbol.Finder{})
	defer objects.Close()
	return Of(exact.Profile(filepath.Base, r.Processes, exact.Memory{}, objects.Open), loops[loop])
}

// TestLoops: no loop costs more than was accepted. Where it should, make accept keeps it.
func TestLoops(t *testing.T) {
	program := filepath.Join(t.TempDir(), "loops")
	if b, err := exec.Command("go", "build", "-trimpath", "-buildvcs=false", "-o", program, "./loops").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, b)
	}
	now := Accepted{Compiler: runtime.Version(), Loops: map[string]Figures{}}
	for loop := range loops {
		now.Loops[loop] = counted(t, program, loop)
	}
	if *write {
		if err := now.Write(file); err != nil {
			t.Fatal(err)
		}
		return
	}
	before, err := Read(file)
	if err != nil {
		t.Fatal(err)
	}
	share := allowed
	if before.Compiler != now.Compiler {
		share = allowedElse
		t.Logf("accepted of code by %s, and this is by %s: up to %v %% more is let pass", before.Compiler, now.Compiler, 100*share)
	}
	for loop, f := range now.Loops {
		was, known := before.Loops[loop]
		if !known || f.Instructions < 10_000_000 {
			t.Errorf("%s: %d instructions; accepted: %v", loop, f.Instructions, known)
			continue
		}
		t.Logf("%s: %d instructions, %+.3f %%", loop, f.Instructions, 100*(float64(f.Instructions)/float64(was.Instructions)-1))
		if risen := Risen(was, f, share); risen != "" {
			t.Errorf("%s: %s\nmake accept keeps it, if it is worth that", loop, risen)
		}
	}
}

// TestRisen: a rise is told with the function in which it is, and a fall is none.
func TestRisen(t *testing.T) {
	before := Figures{1_000_000, map[string]int64{"a": 600_000, "b": 400_000}}
	if got := Risen(before, Figures{1_009_000, map[string]int64{"a": 609_000, "b": 400_000}}, allowed); got != "" {
		t.Errorf("less than is allowed: %s", got)
	}
	if got := Risen(before, Figures{500_000, map[string]int64{"a": 100_000, "b": 400_000}}, allowed); got != "" {
		t.Errorf("a fall: %s", got)
	}
	got := Risen(before, Figures{1_020_000, map[string]int64{"a": 600_000, "b": 400_500, "c": 19_500}}, allowed)
	if !strings.Contains(got, "2.00 % more") || !strings.Contains(got, "+19500 in c") || strings.Contains(got, "in b") {
		t.Error(got)
	}
}
