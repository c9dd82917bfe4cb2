package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"entelon/cmd/entelon/reading"
	"entelon/codec/take"
)

// ownWait is a wait as the program itself saw it.
type ownWait struct {
	tid   uint32 // of the thread that ended it
	begin int64  // when it asked, on the program's clock
	ns    int64  // from asking to getting
}

// relayed takes a program whose threads wait for each other in known ways, and returns what it says
// of its own waits.
func relayed(t *testing.T, file string, measures ...string) map[string][]ownWait {
	t.Helper()
	program := filepath.Join(t.TempDir(), "relay")
	if b, err := exec.Command("cc", "-g", "-O1", "-fno-omit-frame-pointer", "-pthread", "-o", program, "testdata/relay/relay.c").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, b)
	}
	args := []string{"take", "--out", file}
	for _, m := range measures {
		args = append(args, "--measure", m)
	}
	r := entelon(t, append(args, "--", program)...)
	if r.code != 0 {
		t.Fatal(r.stderr)
	}
	out := map[string][]ownWait{}
	for _, line := range strings.Split(r.stderr, "\n") {
		var who string
		var tid uint32
		var begin, end int64
		if n, _ := fmt.Sscanf(line, "%s %d %d %d", &who, &tid, &begin, &end); n == 4 {
			out[who] = append(out[who], ownWait{tid, begin, end - begin})
		}
	}
	if len(out["waiter"]) != 40 || len(out["reader"]) != 40 {
		t.Fatalf("the program told of %d and %d waits", len(out["waiter"]), len(out["reader"]))
	}
	return out
}

// matched finds for each wait that a program told of the one that lanes have within it, nil where they
// have none. The two clocks differ by the same time for all, which is the one that fits most of them.
func matched(waits []reading.LaneWaitJSON, truth []ownWait) (best []*reading.LaneWaitJSON) {
	const near = 50_000 // nanoseconds by which the difference of the clocks may be found wrong
	slices.SortFunc(waits, func(a, b reading.LaneWaitJSON) int { return int(a.AtNS - b.AtNS) })
	most := -1
	for _, w := range waits[:min(len(waits), 8)] {
		for _, x := range truth[:min(len(truth), 8)] {
			shift, found := x.begin-w.AtNS, 0
			pairs := make([]*reading.LaneWaitJSON, len(truth))
			for i, x := range truth {
				for k := range waits {
					at := waits[k].AtNS + shift
					if within := at >= x.begin-near && at+waits[k].NS <= x.begin+x.ns+near; within && (pairs[i] == nil || waits[k].NS > pairs[i].NS) {
						pairs[i] = &waits[k]
					}
				}
				if pairs[i] != nil {
					found++
				}
			}
			if found > most {
				best, most = pairs, found
			}
		}
	}
	return best
}

// lineOf is where a text stands in the program's source.
func lineOf(t *testing.T, text string) uint32 {
	t.Helper()
	b, err := os.ReadFile("testdata/relay/relay.c")
	if err != nil {
		t.Fatal(err)
	}
	before, _, found := strings.Cut(string(b), text)
	if !found {
		t.Fatalf("the program has no %s", text)
	}
	return uint32(strings.Count(before, "\n") + 1)
}

// TestWaitsAndWhoEndedThem: what lanes say of each wait is what the program says of it itself: for
// what, for how long, and by whom it was ended.
func TestWaitsAndWhoEndedThem(t *testing.T) {
	mustSample(t)
	if os.Geteuid() != 0 {
		t.Skip("where threads wait, and who wakes them, is seen by root")
	}
	for _, measures := range [][]string{{"cpu", "waiting", "syscalls"}, {"waiting"}} {
		file := filepath.Join(t.TempDir(), "x.take")
		truth := relayed(t, file, measures...)
		got := parse[reading.LanesJSON](t, "lanes", file, "--json", "--limit", "1000")
		if !got.Measured || got.Thinned != 0 || got.Lost != 0 {
			t.Errorf("%v: measured: %v, %d thinned, %d lost", measures, got.Measured, got.Thinned, got.Lost)
		}
		threads := map[string]reading.LaneJSON{}
		for _, l := range got.Lanes {
			threads[l.Thread] = l
			sum := int64(0)
			for _, ns := range l.Spent {
				sum += ns
			}
			if sum != l.ToNS-l.FromNS {
				t.Errorf("%v: the states of %s are together %d ns, and it was there for %d", measures, l.Thread, sum, l.ToNS-l.FromNS)
			}
		}
		for who, state := range map[string]string{"waiter": "lock", "reader": "input"} {
			var waits []reading.LaneWaitJSON
			for _, w := range threads[who].Waits {
				if w.State == state && w.Line == lineOf(t, map[string]string{"waiter": "begins[0][i] = now();", "reader": "begins[1][i] = now();"}[who])+1 {
					waits = append(waits, w)
				}
			}
			pairs := matched(waits, truth[who])
			var off, none []int64
			for i, x := range truth[who] {
				w := pairs[i]
				switch {
				case w == nil && x.ns > 500_000:
					none = append(none, x.ns)
				case w == nil: // what it wanted was there
				case w.ByTID != x.tid || w.Interrupt:
					t.Errorf("%v: a wait of %s was ended by %d, the lanes say %d (an interrupt: %v)", measures, who, x.tid, w.ByTID, w.Interrupt)
				default:
					off = append(off, x.ns-w.NS)
				}
			}
			// What the program sees is longer by what it takes to get in and out of the kernel, and to
			// get a processor, which one in four does at once at least, whatever else runs here.
			slices.Sort(off)
			if len(none) > 1 { // one may have been held up by the machine, and not by whom it waited for
				t.Errorf("%v: %s waited for %v ns, and the lanes have no such waits", measures, who, none)
			}
			if len(off) < 25 || off[0] < -50_000 || off[len(off)/4] > 200_000 {
				t.Errorf("%v: the program's own times of %s are longer by %v ns", measures, who, off)
			}
		}
		for who, where := range map[string]string{"waiter": "hold_lock", "reader": "feed_pipe"} {
			if w := threads[who].Waits[0]; w.Where != where {
				t.Errorf("%v: the longest wait of %s was ended in %s", measures, who, w.Where)
			}
		}
		if w := threads["writer"].Waits[0]; !w.Interrupt || w.State != "timer" {
			t.Errorf("%v: the longest wait of writer is %+v", measures, w)
		}
	}
	file := filepath.Join(t.TempDir(), "x.take")
	relayed(t, file, "cpu", "waiting")
	path := parse[reading.LanePathJSON](t, "lanes", file, "--path", "waiter", "--json")
	blamed, end, dozed := int64(0), path.FromNS, int64(0)
	for _, s := range path.Steps {
		if s.FromNS != end {
			t.Fatalf("a step of the critical path begins at %d, and the one before ended at %d", s.FromNS, end)
		}
		end = s.ToNS
	}
	for _, b := range path.Blame {
		blamed += b.NS
		if b.Thread == "holder" && b.State == "timer" && b.Function == "doze" {
			dozed = b.NS
		}
	}
	// Of each round's 3 ms in which holder dozes with the lock, waiter waits for 2.5.
	if whole := path.ToNS - path.FromNS; blamed != whole || end != path.ToNS || dozed < 80_000_000 || dozed > whole {
		t.Errorf("of %d ns, %d are blamed, and %d on what holder dozed", whole, blamed, dozed)
	}
	if r := entelon(t, "lanes", file, "--path", "waiter"); !strings.Contains(r.stdout, "critical path of waiter") || !strings.Contains(r.stdout, "sleeps in doze") {
		t.Error(r.stdout)
	}
	if r := entelon(t, "lanes", file, "--path", "nobody"); r.code == 0 || !strings.Contains(r.stderr, "no thread of the take has this name") {
		t.Errorf("a thread that is not there: %d %s", r.code, r.stderr)
	}
	text := entelon(t, "lanes", filepath.Join(t.TempDir(), "none.take"))
	if text.code == 0 {
		t.Error("a file that is not there has lanes")
	}
}

// TestResultsOfSystemCalls: a read says how many bytes it got.
func TestResultsOfSystemCalls(t *testing.T) {
	mustSample(t)
	if os.Geteuid() != 0 {
		t.Skip("system calls are seen by root")
	}
	file := filepath.Join(t.TempDir(), "x.take")
	relayed(t, file, "syscalls")
	tk, err := take.ReadFile(file, take.Options{})
	if err != nil {
		t.Fatal(err)
	}
	p := tk.Profile
	results, ones := p.AttributeNamed("result"), 0
	for i, at := range results.Interval {
		if name := p.FunctionName(p.FunctionOf(p.Intervals.Stack[at])); name == "[system call read]" && results.Value[i] == 1 {
			ones++
		} else if name == "[system call exit]" || name == "[system call exit_group]" {
			t.Errorf("%s returned %d", name, results.Value[i])
		}
	}
	if ones != 40 {
		t.Errorf("%d reads of one byte, want 40", ones)
	}
}

// TestLanesWithoutWaits says what is not known of a take of processor time alone.
func TestLanesWithoutWaits(t *testing.T) {
	mustSample(t)
	file := filepath.Join(t.TempDir(), "x.take")
	relayed(t, file, "cpu")
	r := entelon(t, "lanes", file)
	for _, want := range []string{"waiting was not measured", "unknown", "waiter"} {
		if !strings.Contains(r.stdout, want) {
			t.Errorf("%q is not in\n%s%s", want, r.stdout, r.stderr)
		}
	}
	if r := entelon(t, "lanes", file, "--from", "2s", "--to", "1s"); r.code == 0 || !strings.Contains(r.stderr, "--to 1s is not after --from 2s") {
		t.Errorf("an end before the beginning: %d %s", r.code, r.stderr)
	}
}
