package main

import (
	"bytes"
	"strings"
	"testing"
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
	s, err := read(strings.NewReader(report), &out)
	if err != nil {
		t.Fatal(err)
	}
	if !s.failed || s.packages != 1 || s.unlisted != 1 || len(s.left) != 2 || !strings.Contains(s.left[1], "shop.TestRoot: root_test.go:9: only root can (it may not)") {
		t.Errorf("%+v", s)
	}
	if got := out.String(); !strings.Contains(got, "the black is out") || strings.Contains(got, "quiet") || !strings.Contains(got, "FAIL\tshop") || strings.Contains(got, "=== RUN") {
		t.Errorf("%q", got)
	}
	if _, err := read(strings.NewReader("ok shop 0.1s\n"), &out); err == nil {
		t.Error("what is no report is read")
	}
}

// TestDisturbed: a few tests that were disturbed at every try are told and let pass;
// more of them fail the run.
func TestDisturbed(t *testing.T) {
	report := ""
	for _, name := range []string{"TestA", "TestB", "TestC"} {
		report += `{"Action":"output","Package":"shop","Test":"` + name + `","Output":"    a_test.go:3: disturbed three times: by the press\n"}` + "\n" + `{"Action":"skip","Package":"shop","Test":"` + name + `"}` + "\n"
		s, err := read(strings.NewReader(report), &bytes.Buffer{})
		if err != nil {
			t.Fatal(err)
		}
		if want := max(0, len(s.left)-mostDisturbed); s.unlisted != want || !strings.Contains(s.left[0], "not judged") {
			t.Errorf("of %d, %d may not: %q", len(s.left), s.unlisted, s.left)
		}
	}
}
