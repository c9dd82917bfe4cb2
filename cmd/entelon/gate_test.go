package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"entelon/cmd/entelon/reading"
)

// example cuts the code block with a name out of a page of documentation.
func example(t *testing.T, page, name string) string {
	t.Helper()
	b, err := os.ReadFile(page)
	if err != nil {
		t.Fatal(err)
	}
	_, rest, found := strings.Cut(string(b), "<!-- example: "+name+" -->\n```")
	_, rest, line := strings.Cut(rest, "\n")
	code, _, ends := strings.Cut(rest, "```")
	if !found || !line || !ends {
		t.Fatalf("%s has no example %s", page, name)
	}
	return code
}

// TestTheWorkedExample runs the CI job of docs/gate.md as it stands there: on two
// builds of which one is slower, and on one build twice.
func TestTheWorkedExample(t *testing.T) {
	mustSample(t)
	engraved := func(version string) string {
		path, err := filepath.Abs("../../bin/engraved-" + version)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := os.Stat(path); err != nil {
			t.Skip("the demo's builds are not there; make test makes them")
		}
		return path
	}
	job := func(old, new string) (string, int, string) {
		dir := t.TempDir()
		for name, target := range map[string]string{"engraved-old": old, "engraved-new": new, "entelon": program("entelon")} {
			if err := os.Symlink(target, filepath.Join(dir, name)); err != nil {
				t.Fatal(err)
			}
		}
		if err := os.WriteFile(filepath.Join(dir, "entelon.yaml"), []byte(example(t, "../../docs/gate.md", "entelon.yaml")), 0o644); err != nil {
			t.Fatal(err)
		}
		cmd := exec.Command("sh", "-c", example(t, "../../docs/gate.md", "job"))
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "PATH="+dir+":"+os.Getenv("PATH"))
		out, _ := cmd.CombinedOutput()
		return dir, cmd.ProcessState.ExitCode(), string(out)
	}
	dir, code, out := job(engraved("3.4.0"), engraved("3.5.0"))
	if code != 1 || !strings.Contains(out, "slower; see comparison.html") {
		t.Errorf("a slower build: exit %d\n%s", code, out)
	}
	for file, want := range map[string]string{"entelon.xml": "<failure", "comment.md": "### Regression: `new` against `old`", "comparison.html": "slur.lift"} {
		b, err := os.ReadFile(filepath.Join(dir, file))
		if err != nil || !strings.Contains(string(b), want) {
			t.Errorf("%s is without %q: %v", file, want, err)
		}
	}
	if _, code, out := job(engraved("3.4.0"), engraved("3.4.0")); code != 0 {
		t.Errorf("the same build: exit %d\n%s", code, out)
	}
}

// TestInTurns: a baseline and a command are taken one after the other, and the
// words that are said at the end compare them.
func TestInTurns(t *testing.T) {
	mustSample(t)
	dir := t.TempDir()
	r := entelon(t, "take", "--repeat", "2", "--against", program("shares"), "--against-build", "old", "--build", "new", "--out", filepath.Join(dir, "x.take"), "--", program("shares"), "0.4")
	if r.code != 0 {
		t.Fatal(r.stderr)
	}
	var order []string
	for _, f := range []string{"x-baseline-1", "x-candidate-1", "x-baseline-2", "x-candidate-2"} {
		facts := parse[reading.FactsJSON](t, "facts", "--json", filepath.Join(dir, f+".take"))
		order = append(order, facts.Build)
	}
	if got := strings.Join(order, " "); got != "old new old new" {
		t.Errorf("the builds are %s", got)
	}
	_, command, said := strings.Cut(r.stderr, "compare them with: entelon compare ")
	if !said {
		t.Fatalf("how to compare them is not said: %s", r.stderr)
	}
	var args []string
	for _, w := range strings.Fields(strings.SplitN(command, "\n", 2)[0]) {
		args = append(args, strings.Trim(w, "'"))
	}
	if c := compared(t, args...); len(c.Baseline.Takes) != 2 || len(c.Candidate.Takes) != 2 || c.Baseline.Build != "old" {
		t.Errorf("%+v", c.Baseline)
	}
	fails(t, entelon(t, "take", "--against", "a 'b c'", "--", "true"), "--against", "script")
	fails(t, entelon(t, "take", "--against", "true", "--pid", "1"), "--against")
}
