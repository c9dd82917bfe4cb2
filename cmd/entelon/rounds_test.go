package main

import (
	"bytes"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"entelon/capture/launch"
	"entelon/cmd/entelon/option"
	"entelon/cmd/entelon/reading"
	"entelon/codec/take"
	"entelon/core/samplingcost"
	"entelon/diagnose/doctor"
)

// TestRateForABudget: the rate never costs more than was accepted, is a prime,
// and stays in its bounds.
func TestRateForABudget(t *testing.T) {
	for _, c := range []struct {
		budget, cost float64
		rate         int
	}{{0.005, 20e-6, 241}, {0.01, 10e-6, 997}, {1, 1e-6, doctor.HighestRate}, {1e-9, 1e-3, doctor.LowestRate}} {
		if got := doctor.RateFor(c.budget, c.cost); got != c.rate {
			t.Errorf("%v at %v s a sample: %d, want %d", c.budget, c.cost, got, c.rate)
		}
	}
	// 5 % known to within 0.5 points needs 1.96² · 0.05 · 0.95 / 0.005² samples.
	if got := doctor.SecondsFor(0.05, 0.1, 100); math.Abs(got-72.99) > 0.1 {
		t.Errorf("%v s", got)
	}
	for text, want := range map[string]float64{"0.5%": 0.005, "2 %": 0.02, "0.25": 0.25} {
		var s option.Share
		if err := s.Set(text); err != nil || math.Abs(float64(s)-want) > 1e-12 {
			t.Errorf("%q: %v, %v", text, s, err)
		}
	}
	for _, text := range []string{"", "0", "-1%", "120%", "x", "NaN"} {
		var s option.Share
		if err := s.Set(text); err == nil {
			t.Errorf("%q was taken for %v", text, s)
		}
	}
}

// TestWorkFromOutput: the last number counts, wherever the pieces are cut, and
// everything is handed on.
func TestWorkFromOutput(t *testing.T) {
	const text = "begins\n12 scores done\n" + "1 250 scores done\nends"
	for size := 1; size < len(text); size++ {
		var out bytes.Buffer
		r, err := launch.NewWorkReader(&out, `^([0-9 ]+) scores`)
		if err != nil {
			t.Fatal(err)
		}
		for rest := text; rest != ""; {
			n := min(size, len(rest))
			if _, err := r.Write([]byte(rest[:n])); err != nil {
				t.Fatal(err)
			}
			rest = rest[n:]
		}
		if got := r.Work(); got != 1250 || out.String() != text {
			t.Fatalf("in pieces of %d: %v units, %q", size, got, out.String())
		}
	}
	if _, err := launch.NewWorkReader(nil, "(a)(b)"); err == nil {
		t.Error("two groups were taken")
	}
	r, err := launch.NewWorkReader(&bytes.Buffer{}, `^(a+)+$`)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Write([]byte(strings.Repeat("a", 1<<20) + "!\n")); err != nil || r.Work() != 0 {
		t.Errorf("%v, %v", err, r.Work())
	}
}

// TestTakesInARow: takes of one row carry its name, their number, the bare run
// before and the cost of a unit of work.
func TestTakesInARow(t *testing.T) {
	mustSample(t)
	dir := t.TempDir()
	out := filepath.Join(dir, "row.take")
	r := entelon(t, "take", "--out", out, "--repeat", "2", "--bare-first", "--work-from", "did ([0-9]+)", "--", "sh", "-c", "i=0; while [ $i -lt 20000 ]; do i=$((i+1)); done; echo did 40; exit 3")
	if r.code != 3 {
		t.Fatalf("exit code %d: %s", r.code, r.stderr)
	}
	if _, err := os.Stat(filepath.Join(dir, "row-2.take")); err == nil {
		t.Error("the row went on after a command that failed")
	}
	r = entelon(t, "take", "--out", out, "--repeat", "2", "--bare-first", "--work-from", "did ([0-9]+)", "--", "sh", "-c", "i=0; while [ $i -lt 20000 ]; do i=$((i+1)); done; echo did 40")
	if r.code != 0 {
		t.Fatalf("exit code %d: %s", r.code, r.stderr)
	}
	series := ""
	for turn, name := range []string{"row-1.take", "row-2.take"} {
		x, err := take.ReadFile(filepath.Join(dir, name), take.Options{})
		if err != nil {
			t.Fatal(err)
		}
		s, f := x.Settings, x.Facts
		if s.Turn != turn+1 || s.Turns != 2 || s.Series == "" || turn > 0 && s.Series != series {
			t.Errorf("%s: turn %d of %d in %q", name, s.Turn, s.Turns, s.Series)
		}
		series = s.Series
		if f.Work != 40 || f.Bare == nil || f.Bare.DurationNS <= 0 || f.Bare.CPUNS <= 0 {
			t.Errorf("%s: %v units, bare %+v", name, f.Work, f.Bare)
		}
		if len(f.Bare.Pairs) != 1 || f.Bare.Pairs[0].SampledCPUNS <= 0 || !strings.Contains(samplingcost.Words(f.Bare), "does not tell") {
			t.Errorf("%s: %+v, %s", name, f.Bare, samplingcost.Words(f.Bare))
		}
		if len(f.Counters) < 4 || f.Counters[0].Name != "context switches" || len(f.Counters)+len(f.NotCounted) != 11 {
			t.Errorf("%s: %v, and not %v", name, f.Counters, f.NotCounted)
		}
	}
	x := parse[reading.FactsJSON](t, "facts", filepath.Join(dir, "row-2.take"), "--json")
	if x.Work != 40 || x.Bare == nil || len(x.Measures) != 1 {
		t.Errorf("%+v", x)
	}
}
