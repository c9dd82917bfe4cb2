package main

import (
	"encoding/xml"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"entelon/codec/take"
)

const takes = "../../demo/takes/"

// TestDemoStories: of each program's two builds the later one is slower, and the
// reasons are those that are built into it.
func TestDemoStories(t *testing.T) {
	for _, x := range []struct {
		program, old, new string
		suspects          []string // parts of names that must be among the first
	}{
		{"engraved", "3.4.0", "3.5.0", []string{"slur.lift", "glyph.flatten"}},
		{"engraved", "3.5.1", "3.5.0", []string{"Skyline).Height"}},
		{"engraved", "3.6.0", "3.5.1", []string{"glyph.flatten"}},
		{"engraved", "3.4.0", "3.6.0", []string{"braid"}},
		{"inkraster", "1.2.0", "1.3.0", []string{"spread", "sorted"}},
		{"partbook", "1.4.0", "1.5.0", []string{"note"}},
		{"pageturn", "2.1.0", "2.2.0", []string{"staff", "draw.ts:39"}},
	} {
		c := compared(t, "--baseline", takes+x.program+"-"+x.old+"-*.take", "--candidate", takes+x.program+"-"+x.new+"-*.take")
		if c.Outcome != "regression" || c.Whole.Verdict != "slower" || c.Whole.RatioLow <= 1 || len(c.Baseline.Takes) < 3 || c.Scale != "run" {
			t.Errorf("%s: %s by %s, %+v", x.program, c.Outcome, c.Scale, c.Whole)
		}
		for _, want := range x.suspects {
			found := false
			for _, s := range c.Suspects[:min(4, len(c.Suspects))] {
				found = found || strings.Contains(s.Function, want) && s.Estimate.Verdict == "slower"
			}
			if !found {
				t.Errorf("%s: %s is no suspect: %+v", x.program, want, c.Suspects)
			}
		}
		back := compared(t, "--baseline", takes+x.program+"-"+x.new+"-*.take", "--candidate", takes+x.program+"-"+x.old+"-*.take")
		if back.Outcome != "no regression" || back.Whole.Verdict != "faster" {
			t.Errorf("%s, the other way round: %s, %s", x.program, back.Outcome, back.Whole.Verdict)
		}
	}
}

// TestSameBuild: takes of one build are not called different.
func TestSameBuild(t *testing.T) {
	for _, build := range []string{"engraved-3.4.0", "engraved-3.5.0", "inkraster-1.2.0", "inkraster-1.3.0", "partbook-1.4.0", "partbook-1.5.0", "pageturn-2.1.0", "pageturn-2.2.0"} {
		for _, x := range [][2]int{{1, 2}, {1, 3}, {2, 3}} {
			c := compared(t, fmt.Sprintf("%s%s-%d.take", takes, build, x[0]), fmt.Sprintf("%s%s-%d.take", takes, build, x[1]))
			if c.Outcome == "regression" || c.Whole.Verdict == "slower" || c.Whole.Verdict == "faster" {
				t.Errorf("takes %d and %d of %s: %s, %+v", x[0], x[1], build, c.Outcome, c.Whole)
			}
		}
	}
}

func TestGate(t *testing.T) {
	sides := []string{"--baseline", takes + "engraved-3.4.0-*.take", "--candidate", takes + "engraved-3.5.0-*.take"}
	with := func(args ...string) []string { return append(append([]string{"compare"}, sides...), args...) }
	dir := t.TempDir()
	put := func(name, text string) string {
		t.Helper()
		file := filepath.Join(dir, name)
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		return file
	}
	wanted := put("wanted.yaml", `compare:
  scale: none
  limits:
    - whole: 5%
    - function: lyric.*
      rise: 90%
  accepted:
    - rise: 90%
      builds: [3.5.0]
      note: lines under sung-out syllables
`)
	over := put("over.yaml", "compare:\n  accepted:\n    - note: it was for the fair\n      until: 2020-01-31\n")
	other := put("other.yaml", "compare:\n  accepted:\n    - note: for that one\n      builds: [3.4.9]\n")
	shares := put("shares.yaml", "compare:\n  scale: total\n")
	for _, x := range []struct {
		what string
		args []string
		code int
		says string
	}{
		{"a regression", with(), 1, "regression"},
		{"allowed", with("--threshold", "100%"), 0, "no regression"},
		{"a function", with("--threshold", "100%", "--threshold", "slur.lift=20%"), 1, "slur.lift takes"},
		{"accepted", with("--rules", wanted), 0, "Accepted: lines under sung-out syllables"},
		{"no longer accepted", with("--rules", over), 1, "regression"},
		{"accepted for another build", with("--rules", other), 1, "regression"},
		{"shares", with("--rules", shares), 2, "could not tell"},
		{"two takes", []string{"compare", takes + "engraved-3.4.0-1.take", takes + "engraved-3.4.0-2.take"}, 2, "too few takes"},
		{"no side", []string{"compare"}, 3, "give a baseline and a candidate"},
		{"one side", []string{"compare", "--baseline", "x.take"}, 3, "both --baseline and --candidate"},
		{"no such file", []string{"compare", "nowhere.take", "nowhere.take"}, 3, "nowhere.take"},
		{"no such files", []string{"compare", "-b", "nowhere-*.take", "-c", "x"}, 3, "no file matches"},
		{"no number", with("--threshold", "much"), 3, "--threshold much"},
		{"no format", with("--format", "song"), 3, "--format song"},
		{"no flag", []string{"compare", "--loud"}, 3, "no option --loud"},
		{"not YAML", with("--rules", put("bad.yaml", "compare: [")), 3, "bad.yaml"},
		{"unknown word", with("--rules", put("word.yaml", "compare:\n  limit:\n    - whole: 5%\n")), 3, "limit"},
		{"no reason", with("--rules", put("why.yaml", "compare:\n  accepted:\n    - rise: 5%\n")), 3, "say in a note why"},
		{"no day", with("--rules", put("day.yaml", "compare:\n  accepted:\n    - note: x\n      until: soon\n")), 3, "until"},
		{"two limits in one", with("--rules", put("two.yaml", "compare:\n  limits:\n    - whole: 5%\n      function: x\n")), 3, "limit 1"},
		{"no work", with("--scale", "work"), 3, "how much work it did is unknown"},
		{"a build and no server", []string{"compare", "-b", "engraved@3.4.0", "-c", "engraved@3.5.0"}, 3, "--server"},
		{"no such server", []string{"compare", "-b", "engraved@3.4.0", "-c", "engraved@3.5.0", "--server", "http://127.0.0.1:1"}, 3, "does not answer"},
	} {
		r := entelon(t, x.args...)
		if r.code != x.code || !strings.Contains(r.stdout+r.stderr, x.says) {
			t.Errorf("%s: exit %d, want %d:\n%s%s", x.what, r.code, x.code, r.stdout, r.stderr)
		}
		if r.code == 3 && strings.Count(r.stderr, "\n") != 1 {
			t.Errorf("%s: not one line: %q", x.what, r.stderr)
		}
	}
}

func TestComparisonFormats(t *testing.T) {
	report := filepath.Join(t.TempDir(), "comparison.html")
	args := []string{"compare", "-b", takes + "engraved-3.4.0-*.take", "-c", takes + "engraved-3.5.0-*.take", "--threshold", "5%", "--threshold", "slur.lift=10%", "--report", report}
	md := entelon(t, append(args, "--format", "markdown")...)
	for _, want := range []string{"### Regression: `3.5.0` against `3.4.0`", "| regression | slur.lift takes", "`slur.Route → slur.lift`"} {
		if md.code != 1 || !strings.Contains(md.stdout, want) {
			t.Errorf("exit %d, without %q:\n%s", md.code, want, md.stdout)
		}
	}
	x := entelon(t, append(args, "--format", "junit")...)
	var suite struct {
		Tests    int `xml:"tests,attr"`
		Failures int `xml:"failures,attr"`
		Cases    []struct {
			Name    string `xml:"name,attr"`
			Failure *struct {
				Message string `xml:"message,attr"`
			} `xml:"failure"`
		} `xml:"testcase"`
	}
	if err := xml.Unmarshal([]byte(x.stdout), &suite); err != nil {
		t.Fatal(err)
	}
	if suite.Tests != 2 || suite.Failures != 2 || suite.Cases[0].Failure == nil || !strings.Contains(suite.Cases[0].Failure.Message, "more CPU time for each run") {
		t.Errorf("%+v", suite)
	}
	page, err := os.ReadFile(report)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"slur.lift", "What explains the difference", "default-src &#39;none&#39;"} {
		if !strings.Contains(string(page), want) && !strings.Contains(string(page), strings.ReplaceAll(want, "&#39;", "'")) {
			t.Errorf("the report is without %q", want)
		}
	}
	if strings.Contains(string(page), "<script") || strings.Contains(string(page), "http://") {
		t.Error("the report is not by itself")
	}
}

// A hostile name is text in every format.
func TestHostileNamesInComparisons(t *testing.T) {
	a, err := take.ReadFile(older, take.Options{})
	if err != nil {
		t.Fatal(err)
	}
	for i, s := range a.Profile.Strings {
		if strings.HasSuffix(s, "slur.(*Skyline).Height") {
			a.Profile.Strings[i] = "<img src=x>|`**\x1b[31m"
		}
	}
	file := filepath.Join(t.TempDir(), "hostile.take")
	f, err := os.Create(file)
	if err != nil {
		t.Fatal(err)
	}
	if err := take.Write(f, a); err != nil {
		t.Fatal(err)
	}
	if err := f.Close(); err != nil {
		t.Fatal(err)
	}
	report := filepath.Join(t.TempDir(), "x.html")
	md := entelon(t, "compare", file, newer, "--format", "markdown", "--report", report).stdout
	page, err := os.ReadFile(report)
	if err != nil {
		t.Fatal(err)
	}
	if strings.Contains(string(page), "<img src=x>") || strings.Contains(entelon(t, "compare", "--limit", "0", file, newer).stdout, "\x1b") {
		t.Error("a name became markup, or moved the cursor")
	}
	for _, line := range strings.Split(md, "\n") {
		if strings.HasPrefix(line, "| ") && strings.Contains(line, "img") && strings.Count(strings.ReplaceAll(line, "\\|", ""), "|") != 5 {
			t.Errorf("a name broke the table: %s", line)
		}
	}
}
