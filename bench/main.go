// Command bench measures what Entelon claims of its speed, in pairs where two
// things are compared, and writes docs/benchmarks.md. Run it with make bench,
// from the top of the repository, on a machine that has nothing else to do.
//
// Each part runs alone, since it measures.
package main

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"entelon/bench/section"
	"entelon/codec/take"
	"entelon/core/calltree"
	"entelon/core/invent"
	"entelon/core/scope"
	"entelon/linux/perf"
)

func main() {
	pairs := flag.Int("pairs", 9, "pairs of runs for each slowdown")
	rounds := flag.String("rounds", "40000", "work of the two-thread program")
	out := flag.String("out", "docs/benchmarks.md", "file to write")
	only := flag.String("only", "", "only the part of this name, for a look: slowdown, runtimes, handoffs, overtime, copies, tables, names, opening or inner")
	flag.Parse()
	if err := run(*pairs, *rounds, *out, *only); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func run(pairs int, rounds, out, only string) error {
	dir, err := os.MkdirTemp("", "entelon-bench-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	var b bytes.Buffer
	fmt.Fprintf(&b, `# Benchmarks

Written by `+"`make bench`"+` on %s. Machine: %d processors, %s, Linux %s, %s.
The machine is a shared virtual one, so ratios of paired runs are quoted as median [lowest, highest].
What a reader of a large take waits for in the browser is at the end.

`, time.Now().Format("2006-01-02"), runtime.NumCPU(), runtime.GOARCH, kernel(), runtime.Version())
	if err := perf.Allowed(); err != nil {
		return fmt.Errorf("the slowdown cannot be measured here: %w", err)
	}
	for _, part := range []struct {
		name string
		do   func(*bytes.Buffer, string, int, string) error
	}{{"slowdown", slowdown}, {"runtimes", runtimes}, {"handoffs", handoffs}, {"overtime", overTime}, {"copies", copies}, {"tables", tables}, {"names", names}, {"opening", opening}, {"inner", inner}} {
		if only != "" && only != part.name {
			continue
		}
		if err := part.do(&b, dir, pairs, rounds); err != nil {
			return err
		}
	}
	os.Stdout.Write(b.Bytes())
	// What stands behind, which make size and make load write, stays as it is.
	if old, err := os.ReadFile(out); err == nil {
		if sizes, there := section.Find(string(old), "sizes", "make size"); there {
			fmt.Fprintf(&b, "\n%s", old[strings.Index(string(old), sizes):])
		}
	}
	return os.WriteFile(out, b.Bytes(), 0o644)
}

func kernel() string {
	b, err := os.ReadFile("/proc/sys/kernel/osrelease")
	if err != nil {
		return "of unknown release"
	}
	return strings.TrimSpace(string(b))
}

// spread is a set of measurements of one thing.
type spread []float64

func (s spread) sorted() spread {
	c := append(spread(nil), s...)
	sort.Float64s(c)
	return c
}

func (s spread) median() float64 { return s.sorted()[len(s)/2] }

func (s spread) text(format string) string {
	c := s.sorted()
	return fmt.Sprintf(format+" ["+format+", "+format+"]", c.median(), c[0], c[len(c)-1])
}

// slowdown runs a program with two threads that do a fixed amount of work,
// bare and sampled in turns. The program measures its own time.
func slowdown(b *bytes.Buffer, dir string, pairs int, rounds string) error {
	program := filepath.Join(dir, "threads")
	if text, err := exec.Command("cc", "-O2", "-pthread", "-fomit-frame-pointer", "-o", program, "cmd/entelon/testdata/threads/threads.c").CombinedOutput(); err != nil {
		return fmt.Errorf("cc: %w: %s", err, text)
	}
	fmt.Fprint(b, "## What sampling costs\n\nA CPU-bound program with two threads on two processors, so that the collector takes its time from the program.\n\n")
	if err := costs(b, dir, pairs, []rate{{99, "1 %"}, {997, "3 %"}}, program, rounds); err != nil {
		return err
	}
	fmt.Fprint(b, "The collector's CPU includes reading the symbols of the program, the C library and the kernel once for each take, which at low rates is most of it.\n\n")
	return nil
}

// rate is a number of samples a second, with the most that it may cost.
type rate struct {
	hz     int
	target string
}

// costs runs a command bare and sampled in turns. It prints how long each part
// of its work took, in seconds; all parts are the same work.
//
// The time within which the fastest tenth of the parts was done is compared.
// A shared machine takes the processor away from most parts of a run, by up to
// a half of their time; what is left are the parts that it left alone. For a
// program that prints one time only, it is this. Where even these are slower
// than the fastest run of the same side by more than the limit, the machine
// was busy all the time, and the pair does not count; the rule is the same for
// both sides.
func costs(b *bytes.Buffer, dir string, pairs int, rates []rate, command ...string) error {
	const limit, tries = 1.06, 4
	file := filepath.Join(dir, "x.take")
	fmt.Fprint(b, "| rate | slowdown, % | pairs | of | target | collector's CPU a sample, µs | target | lost |\n|---|---|---|---|---|---|---|---|\n")
	for _, rate := range rates {
		var bares, sampleds, slow, cost spread
		var lost int64
		for i := 0; len(slow) < pairs && i <= tries*pairs; i++ {
			bare, err := part(command[0], command[1:]...)
			if err != nil {
				return err
			}
			sampled, err := part("bin/entelon", append([]string{"take", "--rate", strconv.Itoa(rate.hz), "--out", file, "--"}, command...)...)
			if err != nil {
				return err
			}
			if i == 0 {
				continue // warm-up
			}
			bares, sampleds = append(bares, bare), append(sampleds, sampled)
			slow = slow[:0]
			for i := range bares {
				if bares[i] <= limit*slices.Min(bares) && sampleds[i] <= limit*slices.Min(sampleds) {
					slow = append(slow, 100*(sampleds[i]/bares[i]-1))
				}
			}
			t, err := take.ReadFile(file, take.Options{})
			if err != nil {
				return err
			}
			cost = append(cost, float64(t.Facts.CollectorNS)/float64(t.Facts.Samples)/1000)
			lost += t.Facts.Lost
		}
		if len(slow) == 0 {
			return fmt.Errorf("the machine is too busy: none of %d pairs was left alone", len(bares))
		}
		fmt.Fprintf(b, "| %d | %s | %d | %d | at most %s | %s | at most 40 | %d |\n", rate.hz, slow.text("%.2f"), len(slow), len(bares), rate.target, cost.text("%.1f"), lost)
	}
	fmt.Fprintf(b, "\nA pair does not count in which a side was slower than the fastest run of that side by more than %.0f %%: then the machine did something else.\n\n", 100*(limit-1))
	return nil
}

// part runs a program that prints how long the parts of its work took, and
// returns the time within which the fastest tenth of them was done.
func part(name string, args ...string) (float64, error) {
	cmd := exec.Command(name, args...)
	var says bytes.Buffer
	cmd.Stderr = &says
	text, err := cmd.Output()
	if err != nil {
		return 0, fmt.Errorf("%s: %w: %s", name, err, says.String())
	}
	s, err := figures(text)
	if err != nil {
		return 0, fmt.Errorf("%s: %w", name, err)
	}
	return s.sorted()[len(s)/10], nil
}

// figures reads what a program printed: one figure or several.
func figures(text []byte) (spread, error) {
	var s spread
	for _, f := range strings.Fields(string(text)) {
		v, err := strconv.ParseFloat(f, 64)
		if err != nil {
			return nil, err
		}
		s = append(s, v)
	}
	if len(s) == 0 {
		return nil, fmt.Errorf("it printed no figure")
	}
	return s, nil
}

// opening measures a take of a million samples from its bytes to a flame.
func opening(b *bytes.Buffer, _ string, _ int, _ string) error {
	shape := invent.Shape{Functions: 3000, Threads: 8, Stacks: 100_000, Samples: 1_000_000, Depth: 50}
	var file bytes.Buffer
	if err := take.Write(&file, invent.Take(1, shape)); err != nil {
		return err
	}
	var reads, trees, costs, layouts, whole spread
	boxes := 0
	for range 9 {
		runtime.GC()
		begin := time.Now()
		t, err := take.Read(bytes.NewReader(file.Bytes()), "million", take.Options{})
		if err != nil {
			return err
		}
		read := time.Now()
		tr := calltree.New(t.Profile)
		built := time.Now()
		c := tr.Cost(0, scope.Scope{})
		calltree.Functions(tr, c)
		added := time.Now()
		boxes = len(tr.Layout(c, calltree.LayoutOptions{MinWidth: c.Total(0) / 640}).Node)
		end := time.Now()
		ms := func(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }
		reads, trees = append(reads, ms(read.Sub(begin))), append(trees, ms(built.Sub(read)))
		costs, layouts = append(costs, ms(added.Sub(built))), append(layouts, ms(end.Sub(added)))
		whole = append(whole, ms(end.Sub(begin)))
	}
	fmt.Fprintf(b, `## Opening a take of a million samples

%d functions, %d distinct stacks, %.1f MB. Random stacks, which no real program has so many of.

| step | ms |
|---|---|
| read the file | %s |
| build the tree | %s |
| add up its cost, hot functions | %s |
| lay the flame out (%d boxes) | %s |
| together; target 1000 with the page | %s |

`, shape.Functions, shape.Stacks, float64(file.Len())/1e6, reads.text("%.0f"), trees.text("%.0f"), costs.text("%.0f"), boxes, layouts.text("%.1f"), whole.text("%.0f"))
	return nil
}

// inner repeats what go test says of the inner loops.
func inner(b *bytes.Buffer, _ string, _ int, _ string) error {
	text, err := exec.Command("go", "test", "-json", "-run", "^$", "-bench", ".", "./core/...", "./codec/...", "./unwind/...").Output()
	if err != nil {
		return fmt.Errorf("go test -bench: %w", err)
	}
	fmt.Fprint(b, "## Inner loops\n\n```\n")
	var line strings.Builder
	d := json.NewDecoder(bytes.NewReader(text))
	for d.More() {
		var e struct{ Output string }
		if err := d.Decode(&e); err != nil {
			return fmt.Errorf("go test -bench: %w", err)
		}
		line.WriteString(e.Output)
		if strings.HasSuffix(e.Output, "\n") {
			if s := line.String(); strings.Contains(s, "ns/op") {
				b.WriteString(s)
			}
			line.Reset()
		}
	}
	fmt.Fprint(b, "```\n\nMframes/s counts the frames of every sample's stack.\n")
	return nil
}
