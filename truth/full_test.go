package truth

import (
	"bytes"
	"flag"
	"fmt"
	"os"
	"runtime"
	"strings"
	"testing"
	"time"

	"entelon/bench/section"
)

var (
	write    = flag.String("write", "", "run all cases and write this file")
	seconds  = flag.Float64("seconds", 4, "processor time of each program, with -write")
	prebuilt = flag.String("binary", "", "the entelon to hold against the truth; else it is built")
	only     = flag.String("only", "", "only cases whose name has this in it, with -write")
)

// TestFull runs every program in every way and writes docs/truth.md; make
// truth does that. Without -write there is only TestShort.
func TestFull(t *testing.T) {
	if *write == "" {
		t.Skip("make truth runs all cases")
	}
	entelon := builtEntelon(t)
	var all []*Result
	for _, c := range Cases() {
		if !strings.Contains(c.Name, *only) {
			continue
		}
		r, err := Run(c, entelon, t.TempDir(), *seconds, fullTries)
		if err != nil {
			t.Fatal(err)
		}
		t.Logf("%-50s %6d samples, %.2f %% complete", c.Name, r.Samples, 100*r.Complete)
		all = append(all, r)
	}
	s := Sum(all)
	text := page(all, s)
	old, err := os.ReadFile(*write)
	if err != nil {
		t.Fatal(err)
	}
	// What stands there of real programs is another test's.
	real, there := section.Find(string(old), "real programs", "make truth")
	if !there {
		t.Fatalf("%s has no place for the real programs", *write)
	}
	text = append(text, "\n## Real programs\n\n"+real+"\n"...)
	if err := os.WriteFile(*write, text, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := s.Err(); err != nil {
		t.Error(err)
	}
}

// page is docs/truth.md.
func page(all []*Result, s Summary) []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, `# Truth

Written by `+"`make truth`"+` on %s: %s, %s, %d processors. Each program spends %g s of
processor time in parts that it measures itself by the clock of its thread, and is sampled 997 times a second
with the default settings. Its sources, with the stacks that must be seen, are in truth/programs.

| what | measured | target |
|---|---|---|
| shares inside their 99 %% interval | %d of %d | all but %d, as many as may miss by chance |
| complete stacks, without the deliberately over-deep | %.3f %% of %d | 99.5 %% |
| stacks that look as the source says | %.3f %% of %d | 99.5 %% |
| samples lost | %d | 0 |
| ticks without a sample beyond what the host took away, median | %.2f %% | 3 %% |
| stacks with functions of an interpreter, hit while it changed them | %.3f %% of %d | at most 0.5 %% |
| shares by the runtime's own profiler, within %.0f points and chance | %d of %d | all |

## Programs

| program | samples | complete | as expected | cut off |
|---|---|---|---|---|
`, time.Now().Format("2006-01-02"), runtime.GOARCH, runtime.Version(), runtime.NumCPU(), *seconds,
		s.Hits, s.Shares, s.Allowed, 100*s.Complete, s.Stacks, 100*s.Right, s.Known, s.Lost, 100*s.Missing,
		100*float64(s.Torn)/float64(max(1, s.Interpreted+s.Torn)), s.Interpreted+s.Torn, 100*witnessMayDiffer, s.Agree, s.Witnessed)
	for _, r := range all {
		var cut []string
		for _, c := range r.Cut {
			cut = append(cut, fmt.Sprintf("%s (%d)", c.Reason, c.Stacks))
		}
		right := "names stripped"
		if r.Known > 0 {
			right = fmt.Sprintf("%.2f %% of %d", 100*float64(r.Right)/float64(r.Known), r.Known)
		}
		fmt.Fprintf(&b, "| %s | %d | %.2f %% | %s | %s |\n", r.Case.Name, r.Samples, 100*r.Complete, right, strings.Join(cut, ", "))
	}
	fmt.Fprint(&b, "\n## Shares\n\n| program | part | measured, % | sampled, % | 99 % interval | |\n|---|---|---|---|---|---|\n")
	for _, r := range all {
		for _, x := range r.Shares {
			mark := ""
			if !x.Hit {
				mark = "outside"
			}
			fmt.Fprintf(&b, "| %s | %s | %.2f | %.2f | %.2f to %.2f | %s |\n", r.Case.Name, x.Part, 100*x.Measured, 100*x.Sampled, 100*x.Low, 100*x.High, mark)
		}
	}
	fmt.Fprint(&b, "\n## Second witness\n\nThe same parts by the profiler that the runtime has in its standard library, in a run of its own.\n\n| program | part | by it, % | sampled, % | |\n|---|---|---|---|---|\n")
	for _, r := range all {
		for _, x := range r.Witness {
			mark := ""
			if !x.Hit {
				mark = "apart"
			}
			fmt.Fprintf(&b, "| %s | %s | %.2f | %.2f | %s |\n", r.Case.Name, x.Part, 100*x.Measured, 100*x.Sampled, mark)
		}
	}
	wrong := false
	for _, r := range all {
		if r.Wrong != "" {
			if !wrong {
				fmt.Fprint(&b, "\n## Stacks that do not look as the source says\n\nOne of each program.\n\n")
			}
			wrong = true
			fmt.Fprintf(&b, "- %s: `%s`\n", r.Case.Name, r.Wrong)
		}
	}
	return b.Bytes()
}
