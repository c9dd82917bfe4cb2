package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"entelon/cmd/entelon/reading"
	"entelon/judge"
)

// engravers takes the program of that name, and returns what it says of itself.
func engravers(t *testing.T, file string, measures ...string) (calls map[string]int, within, around, waits []int64) {
	t.Helper()
	program := filepath.Join(t.TempDir(), "engravers")
	build := exec.Command("go", "build", "-o", program, "./testdata/engravers")
	if b, err := build.CombinedOutput(); err != nil {
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
	calls = map[string]int{}
	for _, line := range strings.Split(r.stderr, "\n") {
		var ns int64
		var saver bool
		var whole int64
		if n, _ := fmt.Sscanf(line, "engrave %d %d", &ns, &whole); n == 2 {
			within, around = append(within, ns), append(around, whole)
		}
		if n, _ := fmt.Sscanf(line, "wait %d %t", &ns, &saver); n == 2 && saver && ns > 2_000_000 { // of which it may have waited a while for a processor
			waits = append(waits, ns)
		}
		if rest, is := strings.CutPrefix(line, "calls "); is {
			for f := strings.Fields(rest); len(f) >= 2; f = f[2:] {
				n, err := strconv.Atoi(f[1])
				if err != nil {
					t.Fatal(err)
				}
				calls[f[0]] = n
			}
		}
	}
	if len(calls) != 5 || len(within) != calls["engrave"] {
		t.Fatalf("the program told of %v and %d calls of engrave", calls, len(within))
	}
	slices.Sort(within)
	slices.Sort(around)
	return calls, within, around, waits
}

// TestSpansAreTheProgramsOwn: functions that are followed are called as often, and take as long, as the
// program says itself, where stacks grow, calls are recursive, and some are left by a panic.
func TestSpansAreTheProgramsOwn(t *testing.T) {
	mustSample(t)
	if os.Geteuid() != 0 {
		t.Skip("functions are followed by root")
	}
	judge.Fairly(t, followed)
}

func followed(t *judge.Try) {
	file := filepath.Join(t.TempDir(), "x.take")
	calls, within, around, waits := engravers(t.T, file, "cpu", "waiting", "syscalls", "goroutines", "span:main.engrave", "span:main.dive", "span:main.careful", "span:main.stumble", "span:main.save")
	got := parse[reading.SpansJSON](t.T, "spans", file, "--json")
	spans := map[string]reading.SpanNameJSON{}
	for _, n := range got.Names {
		spans[n.Name] = n
	}
	// Who panics does not return, so that there is no end.
	for name, want := range map[string]int{"engrave": calls["engrave"], "dive": calls["dive"], "careful": calls["careful"], "stumble": calls["returned"]} {
		n := spans["main."+name]
		if ended := n.Spans - n.Open; ended != want {
			t.Errorf("%s returned %d times, and there are %d spans", name, want, ended)
		}
	}
	if n := spans["main.stumble"]; n.Open > 1 {
		t.Errorf("%d calls that ended by a panic go on", n.Open)
	}

	one := parse[reading.SpansJSON](t.T, "spans", file, "--name", "main.engrave", "--limit", "1000", "--percentiles", "--blame", "10%", "--json").Names[0]
	var measured []int64
	for _, s := range one.Slowest {
		if !s.Goroutine || s.Thread != "main.worker" && s.Thread != "sync.(*WaitGroup).Go.func1" {
			t.Errorf("a span is of %+v", s.LaneThreadJSON)
		}
		measured = append(measured, s.NS)
	}
	// Each span is as long as the call by its own clock at least, and by its caller's at most, whatever
	// came in between; so are all of them in the order of their lengths. For a quarter of them at least the
	// two clocks are within 2 % or 20 µs of each other, or they would say little.
	slices.Sort(measured)
	const clocks = 1000 // nanoseconds by which reading one of them may differ
	close := 0
	for i, ns := range within {
		if measured[i] < ns-clocks || measured[i] > around[i]+clocks {
			t.Errorf("of %d spans the %d. took %d ns, by the program's own word from %d to %d", len(measured), i+1, measured[i], ns, around[i])
		}
		if around[i]-ns <= max(ns/50, 20_000) {
			close++
		}
	}
	if close < len(within)/4 {
		t.Errorf("the program's own clocks agree on the lengths of %d of %d spans only", close, len(within))
	}
	counted := 0
	for _, b := range one.Histogram {
		counted += b.Spans
	}
	if counted != one.Spans {
		t.Errorf("the histogram has %d of %d spans", counted, one.Spans)
	}

	// What the slow ones were slow for: saver's sleep with the lock.
	if one.Blame == nil || len(one.Blame.Rows) == 0 {
		t.Fatal("nothing is known of what the slow ones were slow for")
	}
	sum := int64(0)
	for _, r := range one.Blame.Rows {
		sum += r.NS
	}
	if sum != one.Blame.TotalNS {
		t.Errorf("the rows are together %d ns, and the spans took %d", sum, one.Blame.TotalNS)
	}
	if r := one.Blame.Rows[0]; r.Thread != "main.saver" && r.Thread != "main.gowrap1" && r.Thread != "main.main.gowrap1" || r.State != "timer" || r.Function != "main.save" || 2*r.NS < sum {
		t.Errorf("the slow ones were slow for %+v, %d of %d ns", r, r.NS, sum)
	}

	// Who ended each wait for the lock that the program says saver held.
	lanes := parse[reading.LanesJSON](t.T, "lanes", file, "--json", "--limit", "1000")
	long, right, wrong := 0, 0, []string{}
	for _, l := range lanes.Lanes {
		sum := int64(0)
		for _, ns := range l.Spent {
			sum += ns
		}
		if sum != l.ToNS-l.FromNS {
			t.Errorf("the states of goroutine or thread %d are together %d ns, and it was there for %d", l.TID, sum, l.ToNS-l.FromNS)
		}
		for _, w := range l.Waits {
			if l.Goroutine && w.Function == "main.engrave" && w.NS > 1_000_000 {
				long++
				// By saver, or by a worker that got it before.
				if w.State == "lock" && (w.Where == "main.save" && w.By != l.Thread || w.Where == "main.engrave" && w.ByTID != l.TID) {
					right++
				} else {
					wrong = append(wrong, fmt.Sprintf("%+v", w))
				}
			}
		}
	}
	if len(waits) < 5 || 20*long < 19*len(waits) {
		t.Errorf("the program waited %d times for saver, the lanes have %d long waits", len(waits), long)
	}
	if 1000*right < 995*long {
		t.Errorf("of %d waits for the lock %d are known as such, with who ended them, and not: %s", long, right, strings.Join(wrong, "; "))
	}
}

// TestSpansThatCannotBe: what cannot be followed is said in one line, before anything runs.
func TestSpansThatCannotBe(t *testing.T) {
	mustSample(t)
	if os.Geteuid() != 0 {
		t.Skip("functions are followed by root")
	}
	dir := t.TempDir()
	for _, x := range []struct{ measure, says string }{
		{"span:no_such_function", "there is no such function"},
		{"goroutines", "it is not a Go program"},
		{"span:", "span:NAME"},
	} {
		file := filepath.Join(dir, "x.take")
		r := entelon(t, "take", "--out", file, "--measure", x.measure, "--", "/bin/true")
		if r.code == 0 || !strings.Contains(r.stderr, x.says) || strings.Count(strings.TrimSpace(r.stderr), "\n") > 0 {
			t.Errorf("%s: %d %q", x.measure, r.code, r.stderr)
		}
		if _, err := os.Stat(file); err == nil {
			t.Errorf("%s left a take", x.measure)
		}
	}
}

// TestSpansOfCPlusPlus: functions that are left by a return, by a jump to another one, or by an exception are
// followed to just that, and what they do is the same as without.
func TestSpansOfCPlusPlus(t *testing.T) {
	mustSample(t)
	if os.Geteuid() != 0 {
		t.Skip("functions are followed by root")
	}
	dir := t.TempDir()
	program, file := filepath.Join(dir, "clefs"), filepath.Join(dir, "x.take")
	if b, err := exec.Command("g++", "-O2", "-o", program, "testdata/clefs/clefs.cc").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, b)
	}
	bare, err := exec.Command(program).CombinedOutput()
	if err != nil {
		t.Fatal(err)
	}
	r := entelon(t, "take", "--out", file, "--measure", "cpu", "--measure", "span:risky", "--measure", "span:passes", "--measure", "span:catches", "--", program)
	if r.code != 0 || !strings.Contains(r.stderr, string(bare)) {
		t.Fatalf("%d %s, alone it says %s", r.code, r.stderr, bare)
	}
	ended := map[string]int{}
	for _, n := range parse[reading.SpansJSON](t, "spans", file, "--json").Names {
		name, _, _ := strings.Cut(n.Name, "(")
		ended[name] += n.Spans - n.Open
	}
	// A call that an exception leaves has no end.
	if ended["catches"] != 300 || ended["risky"] != 200 || ended["passes"] != 300 && ended["passes"] != 200 {
		t.Errorf("there are %v spans", ended)
	}
}
