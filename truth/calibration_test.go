package truth

import (
	"bytes"
	"flag"
	"fmt"
	"math"
	"path/filepath"
	"testing"
	"time"

	"entelon/bench/section"
	"entelon/codec/take"
	"entelon/core/calltree"
	"entelon/core/compare"
	"entelon/core/invent"
	"entelon/core/match"
	"entelon/core/profile"
	"entelon/core/scales"
	"entelon/core/scope"
	"entelon/core/statistics"
)

var comparing = flag.String("comparing", "", "file whose section on calibration is written anew; without it fewer comparisons are made and nothing is written")

func side(p *profile.Profile, at time.Time) match.Run {
	tr := calltree.New(p)
	c := tr.Cost(0, scope.Scope{})
	return match.Run{Tree: tr, Cost: c, Functions: calltree.Functions(tr, c), StartedAt: at}
}

// slowdowns is how many comparisons are made for each slowdown.
const slowdowns = 800

// calibrated is what many comparisons of two shops showed.
type calibrated struct {
	times, whole, functions, covered int
	seen                             float64 // mean of the smallest change that would be seen
}

// calibrate compares takes of two shops many times. Interleaved means A B A B …,
// else all takes of one are made before those of the other.
func calibrate(t *testing.T, seed uint64, times, takes int, a, b invent.Shop, ratio float64, inTurns bool) calibrated {
	t.Helper()
	out := calibrated{times: times}
	season := invent.NewSeason(seed)
	for range times {
		var as, bs []match.Run
		for i := range 2 * takes {
			at := time.Unix(int64(60*i), 0)
			if inTurns && i%2 == 0 || !inTurns && i < takes {
				as = append(as, side(season.Take(a), at))
			} else {
				bs = append(bs, side(season.Take(b), at))
			}
		}
		r, err := compare.Compare(as, bs, compare.Options{Scale: scales.ByRun})
		if err != nil {
			t.Fatal(err)
		}
		if r.Whole.Verdict == statistics.Slower || r.Whole.Verdict == statistics.Faster {
			out.whole++
		}
		for _, row := range r.Rows {
			if row.Certain {
				out.functions++
				break
			}
		}
		if r.Whole.RatioLow <= ratio && ratio <= r.Whole.RatioHigh {
			out.covered++
		}
		out.seen += r.Whole.Seen / float64(times)
	}
	return out
}

func percentOf(n, of int) string { return fmt.Sprintf("%.1f %%", 100*float64(n)/float64(of)) }

// expected is how often a slowdown is found, as the power calculation has it:
// one as large as the smallest that would be seen is found 4 times in 5, and
// what a test sees is about normal around it.
func expected(slower, seen float64) float64 {
	z := slower / seen * (1.96 + 0.8416)
	return 0.5 * math.Erfc(-(z-1.96)/math.Sqrt2)
}

// TestCalibration holds what a comparison says against what is so: programs that
// did not change, programs that did, and takes of the demo's builds.
func TestCalibration(t *testing.T) {
	times, unchanged := 150, 150
	if *comparing != "" {
		times, unchanged = 2000, 4000
	}
	limit := func(rate float64, n int) float64 { return rate*float64(n) + 3.3*math.Sqrt(rate*(1-rate)*float64(n)) }
	var out bytes.Buffer
	fmt.Fprintf(&out, "Written by `make truth` on %s, from %d simulated comparisons a row of programs that did not change, and %d of those that did; a rate of 5 %% is measured to within %.1f %% by so many of the first.\n\n", time.Now().UTC().Format("2006-01-02"), unchanged, min(times, slowdowns), 196*math.Sqrt(0.05*0.95/float64(unchanged)))
	out.WriteString("**Programs that did not change.** 40 functions, from 400 samples a take to 10. The stated rate of false alarms is 5 %; intervals are to cover in 95 %.\n\n| takes a side | what takes differ by | the whole is called changed | a function is | the interval of the whole covers |\n|--:|---|--:|--:|--:|\n")
	street := invent.Street(40, 400)
	for i, x := range []struct {
		takes   int
		what    string
		change  func(*invent.Shop)
		inTurns bool
	}{
		{3, "3 % all alike, 2 % each function", func(s *invent.Shop) { s.Common, s.Own = 0.03, 0.02 }, true},
		{5, "3 % all alike, 2 % each function", func(s *invent.Shop) { s.Common, s.Own = 0.03, 0.02 }, true},
		{10, "8 % all alike, 3 % each function", func(s *invent.Shop) { s.Common, s.Own = 0.08, 0.03 }, true},
		{5, "3 % all alike, 2 % each function, samples in bursts of four", func(s *invent.Shop) { s.Common, s.Own, s.Burst = 0.03, 0.02, 4 }, true},
		{5, "one take in ten is 30 % off", func(s *invent.Shop) { s.Common, s.Own, s.Far = 0.03, 0.02, 0.1 }, true},
		{5, "half of what meets a take meets the next one, interleaved", func(s *invent.Shop) { s.Common, s.Own, s.Drag = 0.03, 0.02, 0.5 }, true},
		{5, "the same, one side after the other", func(s *invent.Shop) { s.Common, s.Own, s.Drag = 0.03, 0.02, 0.5 }, false},
		{5, "one side after the other, where nothing drags on", func(s *invent.Shop) { s.Common, s.Own = 0.03, 0.02 }, false},
	} {
		s := street
		x.change(&s)
		c := calibrate(t, uint64(i+1), unchanged, x.takes, s, s, 1, x.inTurns)
		fmt.Fprintf(&out, "| %d | %s | %s | %s | %s |\n", x.takes, x.what, percentOf(c.whole, unchanged), percentOf(c.functions, unchanged), percentOf(c.covered, unchanged))
		if float64(c.whole) > limit(0.05, unchanged) || float64(c.functions) > limit(0.05, unchanged) || float64(unchanged-c.covered) > limit(0.05, unchanged) {
			t.Errorf("%d takes, %s: %+v", x.takes, x.what, c)
		}
	}
	out.WriteString("\nWhere one side is made after the other, intervals are wider for it, by more than it would take where nothing drags on: that cannot be told from a few takes, which is why they are better interleaved.\n\n**Programs that got slower**, every function alike, with 2 % between takes and 10 000 samples a take. Beside how often it was found stands how often it is to be found, from the smallest change that the comparisons themselves said would be seen.\n\n| slower by | takes a side | found | to be found | the interval covers it |\n|--:|--:|--:|--:|--:|\n")
	for i, slower := range []float64{0.02, 0.05, 0.10} {
		for _, takes := range []int{3, 5, 10} {
			s := invent.Street(6, 4082)
			s.Common = 0.02
			n := min(times, slowdowns)
			c := calibrate(t, uint64(100+10*i+takes), n, takes, s, s.With("", 1+slower), 1+slower, true)
			want := expected(slower, c.seen)
			fmt.Fprintf(&out, "| %.0f %% | %d | %s | %.1f %% | %s |\n", 100*slower, takes, percentOf(c.whole, n), 100*want, percentOf(c.covered, n))
			if got := float64(c.whole) / float64(n); math.Abs(got-want) > 0.1+2.6*math.Sqrt(want*(1-want)/float64(n)) {
				t.Errorf("%d takes, %.0f %% slower: found %.3f, expected %.3f", takes, 100*slower, got, want)
			}
			if float64(n-c.covered) > limit(0.05, n) {
				t.Errorf("%d takes, %.0f %% slower: the interval covers %d of %d", takes, 100*slower, c.covered, n)
			}
		}
	}
	demoTakes(t, &out)
	if *comparing == "" {
		return
	}
	if err := section.Write(*comparing, "calibration", "make truth", out.String()); err != nil {
		t.Fatal(err)
	}
}

// demoTakes compares the demo's real takes: builds with each other, and the takes
// of one build.
func demoTakes(t *testing.T, out *bytes.Buffer) {
	read := func(build string) (runs []match.Run) {
		files, err := filepath.Glob("../demo/takes/" + build + "-*.take")
		if err != nil || len(files) < 3 {
			t.Fatalf("%s has %d takes: %v", build, len(files), err)
		}
		for _, file := range files {
			x, err := take.ReadFile(file, take.Options{})
			if err != nil {
				t.Fatal(err)
			}
			runs = append(runs, side(x.Profile, x.Machine.StartedAt))
		}
		return runs
	}
	out.WriteString("\n**Real takes**, three to five of each build of the demo's programs, interleaved on a shared machine.\n\n| from | to | verdict | change, with its interval |\n|---|---|---|--:|\n")
	for _, x := range [][3]string{
		{"engraved-3.4.0", "engraved-3.5.0", "slower"}, {"engraved-3.5.0", "engraved-3.5.1", "faster"}, {"engraved-3.5.1", "engraved-3.6.0", "faster"},
		{"inkraster-1.2.0", "inkraster-1.3.0", "slower"}, {"partbook-1.4.0", "partbook-1.5.0", "slower"}, {"pageturn-2.1.0", "pageturn-2.2.0", "slower"},
	} {
		r, err := compare.Compare(read(x[0]), read(x[1]), compare.Options{Scale: scales.ByRun})
		if err != nil {
			t.Fatal(err)
		}
		w := r.Whole
		fmt.Fprintf(out, "| %s | %s | %s | %s%s |\n", x[0], x[1], w.Verdict, statistics.Change(w.Ratio, "CPU time"), w.Between())
		if string(w.Verdict) != x[2] {
			t.Errorf("%s to %s: %s, want %s", x[0], x[1], w.Verdict, x[2])
		}
	}
	pairs, alarms := 0, 0
	for _, build := range []string{"engraved-3.4.0", "engraved-3.5.0", "engraved-3.5.1", "engraved-3.6.0", "inkraster-1.2.0", "inkraster-1.3.0", "partbook-1.4.0", "partbook-1.5.0", "pageturn-2.1.0", "pageturn-2.2.0"} {
		runs := read(build)
		for i := range runs {
			for j := range i {
				pairs++
				r, err := compare.Compare(runs[j:j+1], runs[i:i+1], compare.Options{Scale: scales.ByRun})
				if err != nil {
					t.Fatal(err)
				}
				if r.Whole.Verdict == statistics.Slower || r.Whole.Verdict == statistics.Faster {
					alarms++
				}
			}
		}
	}
	fmt.Fprintf(out, "\nOf %d pairs of single takes of one build %d are called different as a whole.\n", pairs, alarms)
	if alarms > 0 {
		t.Errorf("%d of %d pairs of takes of one build are called different", alarms, pairs)
	}
}
