package main

import (
	"context"
	"fmt"
	"io"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"time"
)

const (
	// disturbing is how much of one processor the host of this machine takes away on
	// average while a package is tested, or what failed in it, before that is tested again.
	disturbing = 0.2
	// maxAgain of the tests of a run are tested again; of more than that, something
	// else is wrong.
	maxAgain = 12
	tries    = 2
)

// failure is a test that failed, with what it wrote.
type failure struct {
	pack, test string
	said       []string
}

// tester tests one test of a package by itself, and says whether it passed and what was
// written.
type tester func(pack, test string) (passed bool, out string)

// alone tests with the go command. It waits for at most ten minutes.
func alone(pack, test string) (bool, string) {
	ctx, stop := context.WithTimeout(context.Background(), 11*time.Minute)
	defer stop()
	out, err := exec.CommandContext(ctx, "go", "test", "-count=1", "-timeout", "10m", "-v", "-run", "^"+regexp.QuoteMeta(test)+"$", pack).CombinedOutput()
	// A test that is not found passes, and so does one that leaves itself out now.
	return err == nil && strings.Contains(string(out), "--- PASS: "+test+" "), string(out)
}

// again tests those that failed by themselves, and returns those that fail again.
func again(failed []failure, test tester, w io.Writer) (still []failure) {
	if len(failed) > maxAgain {
		return failed
	}
	for _, f := range failed {
		passed := false
		for n := 0; n < tries && !passed; n++ {
			var out string
			if passed, out = test(f.pack, f.test); !passed {
				f.said = strings.SplitAfter(out, "\n")
			}
		}
		if !passed {
			still = append(still, f)
			continue
		}
		fmt.Fprintf(w, "%s.%s failed while the host took time away, and passed by itself. It had said:\n", f.pack, f.test)
		for _, l := range f.said {
			fmt.Fprint(w, "  | "+l)
		}
	}
	return still
}

// top are the tests of a package that failed themselves, without their parts.
func top(failed []failure) (out []failure) {
	for _, f := range failed {
		name, _, _ := strings.Cut(f.test, "/")
		i := slices.IndexFunc(out, func(x failure) bool { return x.test == name })
		if i < 0 {
			out = append(out, failure{pack: f.pack, test: name})
			i = len(out) - 1
		}
		out[i].said = append(out[i].said, f.said...)
	}
	return out
}
