package main

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"
)

func TestRead(t *testing.T) {
	const report = `{"Action":"run","Package":"shop","Test":"TestInk"}
{"Action":"output","Package":"shop","Test":"TestInk","Output":"=== RUN   TestInk\n"}
{"Action":"output","Package":"shop","Test":"TestInk","Output":"    ink_test.go:3: the black is out\n"}
{"Action":"fail","Package":"shop","Test":"TestInk"}
{"Action":"output","Package":"shop","Test":"TestPlate","Output":"quiet\n"}
{"Action":"pass","Package":"shop","Test":"TestPlate"}
{"Action":"output","Package":"shop","Test":"TestRoot","Output":"    root_test.go:9: only root can\n"}
{"Action":"output","Package":"shop","Test":"TestRoot","Output":"--- SKIP: TestRoot (0.00s)\n"}
{"Action":"skip","Package":"shop","Test":"TestRoot"}
{"Action":"output","Package":"entelon/truth","Test":"TestFull","Output":"    full_test.go:9: make truth runs all cases\n"}
{"Action":"skip","Package":"entelon/truth","Test":"TestFull"}
{"Action":"output","Package":"shop","Output":"FAIL\tshop\t0.1s\n"}
{"Action":"fail","Package":"shop"}
`
	var out bytes.Buffer
	s, err := read(strings.NewReader(report), &out, none)
	if err != nil {
		t.Fatal(err)
	}
	if !s.failed || s.packages != 1 || s.unlisted != 1 || len(s.left) != 2 || !strings.Contains(s.left[1], "shop.TestRoot: root_test.go:9: only root can (it may not)") {
		t.Errorf("%+v", s)
	}
	if got := out.String(); !strings.Contains(got, "the black is out") || strings.Contains(got, "quiet") || !strings.Contains(got, "FAIL\tshop") || strings.Contains(got, "=== RUN") {
		t.Errorf("%q", got)
	}
	if _, err := read(strings.NewReader("ok shop 0.1s\n"), &out, none); err == nil {
		t.Error("what is no report is read")
	}
}

// none is the time that is taken away on a machine of one's own.
func none() time.Duration { return 0 }

// most is the time that is taken away by a host that has others to serve.
func most() time.Duration { return time.Since(epoch) }

var epoch = time.Now()

// TestDisturbed: a few tests that were disturbed at every try are told and let pass; more
// of them fail the run. There may be more of them where the host takes time away.
func TestDisturbed(t *testing.T) {
	report := ""
	for n := range maxStolen + 2 {
		name := fmt.Sprint("Test", n)
		report += `{"Action":"output","Package":"shop","Test":"` + name + `","Output":"    a_test.go:3: disturbed three times: by the press\n"}` + "\n" + `{"Action":"skip","Package":"shop","Test":"` + name + `"}` + "\n"
		for _, host := range []struct {
			stolen func() time.Duration
			most   int
		}{{none, maxDisturbed}, {most, maxStolen}} {
			s, err := read(strings.NewReader(report), &bytes.Buffer{}, host.stolen)
			if err != nil {
				t.Fatal(err)
			}
			if want := max(0, len(s.left)-host.most); s.unlisted != want || !strings.Contains(s.left[0], "not judged") {
				t.Errorf("of %d, %d may not: %q", len(s.left), s.unlisted, s.left)
			}
		}
	}
}

// TestAgain: what failed while the host took time away is tested again by itself, and what
// it said is told, whether it passes then or not. A package that came to an end in the
// middle of a test has failed.
func TestAgain(t *testing.T) {
	const (
		failed = `{"Action":"run","Package":"shop","Test":"TestInk"}
{"Action":"run","Package":"shop","Test":"TestInk/black"}
{"Action":"output","Package":"shop","Test":"TestInk/black","Output":"    ink_test.go:3: the black is out\n"}
{"Action":"fail","Package":"shop","Test":"TestInk/black"}
{"Action":"output","Package":"shop","Test":"TestInk","Output":"    --- FAIL: TestInk\n"}
{"Action":"fail","Package":"shop","Test":"TestInk"}
`
		end    = `{"Action":"fail","Package":"shop"}` + "\n"
		midway = `{"Action":"run","Package":"shop","Test":"TestPlate"}` + "\n"
	)
	for name, c := range map[string]struct {
		report string
		stolen func() time.Duration
		again  int
		failed bool
	}{
		"alone":     {failed + end, none, 0, true},
		"disturbed": {failed + end, most, 1, false},
		"ended":     {failed + midway + end, most, 0, true},
	} {
		var out bytes.Buffer
		s, err := read(strings.NewReader(c.report), &out, c.stolen)
		if err != nil || len(s.again) != c.again || s.failed != c.failed || s.packages != 1 {
			t.Errorf("%s: %+v, %v", name, s, err)
		}
		if c.again == 0 {
			if !strings.Contains(out.String(), "the black is out") {
				t.Errorf("%s: %q", name, out.String())
			}
			continue
		}
		for passes := range 4 { // at which try it passes
			n := 0
			var told bytes.Buffer
			still := again(s.again, func(pack, test string) (bool, string) {
				if pack != "shop" || test != "TestInk" {
					t.Errorf("%s.%s is tested again", pack, test)
				}
				n++
				return n > passes, "the red is out\n"
			}, &told)
			if bad := passes >= tries; bad != (len(still) == 1) || n != min(passes+1, tries) {
				t.Errorf("%d tries, %+v", n, still)
			} else if !bad && !strings.Contains(told.String(), "is out") {
				t.Errorf("%q", told.String())
			}
		}
	}
	if many := make([]failure, maxAgain+1); len(again(many, nil, nil)) != len(many) {
		t.Error("no number of failures is too many")
	}
}
