// Command skips reads what "go test -json" writes, passes on what is worth reading (the
// result of each package, everything that a failed test wrote), and lists at the end
// which tests left themselves out, with their reasons. It fails where a test did that
// which is not in the list of those that may: what could run here must run. What failed
// while the host of this machine took much of its time away is tested once more by itself,
// and told in any case.
//
// One goroutine reads and writes.
package main

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"entelon/linux/procfs"
)

// may are the tests that leave themselves out of an ordinary run, with what runs them.
var may = map[string]string{
	"entelon/truth.TestFull": "make truth",
}

// disturbed begins the reason of a test that measures and was disturbed by the machine
// at every try. It is not judged; maxDisturbed of a run may be so, and maxStolen of one
// throughout which the host took the machine's time away.
const (
	disturbed    = "disturbed three times: "
	maxDisturbed = 2
	maxStolen    = 8
)

// event is one line of the test's report.
type event struct {
	Action  string
	Package string
	Test    string
	Output  string
}

// summary is what a whole run said.
type summary struct {
	left     []string // tests that left themselves out, with their reasons
	unlisted int      // of these, that may not
	unjudged int      // of these, that were disturbed
	failed   bool
	packages int // that were tested, or failed to be
	again    []failure
}

// running is a package that is being tested.
type running struct {
	moment
	open   int // tests that began and did not end
	tests  map[string]moment
	failed []failure
	// disturbed: the host took time away during one of the tests that failed, if not in all of the package.
	disturbed float64
}

// moment is when something began.
type moment struct {
	at     time.Time
	stolen time.Duration // by then, since the start of the machine
}

// share is how much of one processor was taken away since then.
func (m moment) share(stolen time.Duration) float64 { return share(stolen-m.stolen, time.Since(m.at)) }

// read passes a report on, as described above. What failed in a package while the host took
// time away, as stolen counts it, is not failed yet but to be tested again.
func read(r io.Reader, w io.Writer, stolen func() time.Duration) (s summary, err error) {
	said := map[string][]string{} // by test, what it wrote so far
	packages := map[string]*running{}
	began, before := time.Now(), stolen()
	for d := json.NewDecoder(bufio.NewReader(r)); ; {
		var e event
		if err := d.Decode(&e); errors.Is(err, io.EOF) {
			slices.Sort(s.left)
			most := maxDisturbed
			if share(stolen()-before, time.Since(began)) > disturbing {
				most = maxStolen
			}
			s.unlisted += max(0, s.unjudged-most)
			return s, nil
		} else if err != nil {
			return s, fmt.Errorf("reading the report of the tests: %w", err)
		}
		name := e.Package + "." + e.Test
		pack := packages[e.Package]
		if pack == nil {
			pack = &running{moment: moment{time.Now(), stolen()}, tests: map[string]moment{}}
			packages[e.Package] = pack
		}
		if e.Test != "" {
			switch e.Action {
			case "run":
				pack.open++
				pack.tests[e.Test] = moment{time.Now(), stolen()}
			case "pass", "fail", "skip":
				pack.open--
			}
		}
		switch e.Action {
		case "output":
			if e.Test == "" {
				if e.Output != "PASS\n" && !strings.HasPrefix(e.Output, "testing: warning: no tests") {
					fmt.Fprint(w, e.Output)
				}
				continue
			}
			said[name] = append(said[name], e.Output)
		case "build-output":
			fmt.Fprint(w, e.Output)
		case "build-fail":
			s.failed = true
			s.packages++
		case "fail":
			if e.Test != "" {
				lines := slices.DeleteFunc(said[name], func(l string) bool { return strings.HasPrefix(l, "=== ") })
				if began, ok := pack.tests[e.Test]; ok {
					pack.disturbed = max(pack.disturbed, began.share(stolen()))
				}
				pack.failed = append(pack.failed, failure{pack: e.Package, test: e.Test, said: lines})
				delete(said, name)
				continue
			}
			s.packages++
			taken := max(pack.disturbed, pack.share(stolen()))
			// Where the whole package came to an end, what was not tested cannot be told.
			if len(pack.failed) > 0 && pack.open == 0 && taken > disturbing {
				fmt.Fprintf(w, "The host took %.0f %% of a processor away from %s, or from a test of it that failed: that is tested again at the end.\n", 100*taken, e.Package)
				s.again = append(s.again, top(pack.failed)...)
				continue
			}
			s.failed = true
			for _, f := range pack.failed {
				fmt.Fprint(w, strings.Join(f.said, ""))
			}
		case "pass":
			if e.Test == "" {
				s.packages++
			}
			delete(said, name)
		case "skip":
			if e.Test == "" { // a package without tests
				continue
			}
			note, why := "it may not", reason(said[name])
			by, listed := may[name]
			switch {
			case listed:
				note = by + " runs it"
			case strings.Contains(why, disturbed):
				note = "not judged"
				s.unjudged++
			default:
				s.unlisted++
			}
			s.left = append(s.left, fmt.Sprintf("%s: %s (%s)", name, why, note))
			delete(said, name)
		}
	}
}

// share is how much of one processor was taken away, 0 of no time.
func share(taken, of time.Duration) float64 { return float64(taken) / float64(max(1, of)) }

// reason is why a test left itself out: the last thing that it wrote of itself.
func reason(lines []string) string {
	for _, l := range slices.Backward(lines) {
		l = strings.TrimSpace(l)
		if l != "" && !strings.HasPrefix(l, "---") && !strings.HasPrefix(l, "===") {
			return l
		}
	}
	return "it does not say why"
}

func main() {
	s, err := read(os.Stdin, os.Stdout, procfs.StolenTime)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	for _, f := range again(s.again, alone, os.Stdout) {
		s.failed = true
		fmt.Printf("%s.%s:\n%s", f.pack, f.test, strings.Join(f.said, ""))
	}
	if s.unjudged > 0 && s.unlisted > 0 {
		fmt.Fprintf(os.Stderr, "%d tests were disturbed, which is too many.\n", s.unjudged)
	}
	if n := len(s.left); n > 0 {
		fmt.Printf("\n%d tests left themselves out:\n", n)
		for _, l := range s.left {
			fmt.Println("  " + l)
		}
	}
	if s.packages == 0 {
		fmt.Fprintln(os.Stderr, "nothing was tested")
	}
	if s.failed || s.unlisted > 0 || s.packages == 0 {
		os.Exit(1)
	}
}
