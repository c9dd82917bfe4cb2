// Command skips reads what "go test -json" writes, passes on what is worth reading (the
// result of each package, everything that a failed test wrote), and lists at the end
// which tests left themselves out, with their reasons. It fails where a test did that
// which is not in the list of those that may: what could run here must run.
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
)

// may are the tests that leave themselves out of an ordinary run, with what runs them.
var may = map[string]string{
	"entelon/truth.TestFull": "make truth",
}

// disturbed begins the reason of a test that measures and was disturbed by the machine
// at every try. It is not judged; mostDisturbed of a run may be so.
const (
	disturbed     = "disturbed three times: "
	mostDisturbed = 2
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
}

// read passes a report on, as described above.
func read(r io.Reader, w io.Writer) (s summary, err error) {
	said := map[string][]string{} // by test, what it wrote so far
	for d := json.NewDecoder(bufio.NewReader(r)); ; {
		var e event
		if err := d.Decode(&e); errors.Is(err, io.EOF) {
			slices.Sort(s.left)
			return s, nil
		} else if err != nil {
			return s, fmt.Errorf("reading the report of the tests: %w", err)
		}
		name := e.Package + "." + e.Test
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
		case "fail", "build-fail":
			s.failed = true
			if e.Test == "" {
				s.packages++
			}
			for _, line := range said[name] {
				if !strings.HasPrefix(line, "=== ") {
					fmt.Fprint(w, line)
				}
			}
			delete(said, name)
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
			case strings.Contains(why, disturbed) && s.unjudged < mostDisturbed:
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
	s, err := read(os.Stdin, os.Stdout)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
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
