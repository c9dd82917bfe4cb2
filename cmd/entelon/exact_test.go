package main

import (
	"bytes"
	"io"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"entelon/cmd/entelon/reading"
)

// TestExactRun: a change of a fifth of a percent in one function is found from one exact take a
// side, named, and stops the gate; a take of the same build is not called different; and the
// program's streams and exit code come through.
func TestExactRun(t *testing.T) {
	mustSample(t)
	dir := t.TempDir()
	buildTwo(t, dir, map[string]string{"nib100": "110000", "nib101": "110400"})
	take := func(name, build string) string {
		file := filepath.Join(dir, name+".take")
		r := entelon(t, "exact", "--program", "nib", "--build", build, "--out", file, "--", filepath.Join(dir, build), "20")
		if r.code != 0 || !strings.Contains(r.stderr, " instructions and ") || !strings.Contains(r.stderr, "identical, to the last instruction") {
			t.Fatalf("exit code %d: %s", r.code, r.stderr)
		}
		return file
	}
	a, again, b := take("a", "nib100"), take("again", "nib100"), take("b", "nib101")
	same := comparison(t, entelon(t, "compare", "--json", a, again))
	if same.Whole.Verdict != "no change shown" || same.Whole.Difference != 0 || same.Outcome != "ok" && same.Outcome != "no regression" {
		t.Errorf("a build and itself: %s, %+v", same.Outcome, same.Whole)
	}
	r := entelon(t, "compare", "--json", "--threshold", "0.1%", a, b)
	c := comparison(t, r)
	if r.code != 1 || c.Scale != "run" || c.Whole.Verdict != "slower" || c.Whole.Ratio < 1.0015 || c.Whole.Ratio > 1.0025 || c.Whole.Low != c.Whole.High {
		t.Errorf("exit code %d, by %s: %+v", r.code, c.Scale, c.Whole)
	}
	if len(c.Suspects) == 0 || !strings.Contains(strings.Join(c.Suspects[0].Path, " "), "letter") {
		t.Errorf("the first suspect is not the function that was changed: %+v", c.Suspects)
	}
	if r := entelon(t, "compare", "--limit", "instructions=0.1%", a, b); r.code != 1 {
		t.Errorf("exit code %d: %s", r.code, r.stdout)
	}
	if r := entelon(t, "compare", "--limit", "instructions=0.5%", a, b); r.code != 0 {
		t.Errorf("exit code %d: %s", r.code, r.stdout)
	}
	for _, f := range c.Functions {
		if f.Name == "letter" && (len(f.Calls) != 2 || f.Calls[0] != 20 || f.Calls[1] != 20) {
			t.Errorf("calls of letter: %v", f.Calls)
		}
	}
	// What it writes goes to nobody in the second run, by the same way.
	if r := entelon(t, "exact", "--out", filepath.Join(t.TempDir(), "ls.take"), "--", "ls", "/usr"); r.code != 0 || !strings.Contains(r.stderr, "identical, to the last instruction") || strings.Count(r.stdout, "share") != 1 {
		t.Errorf("exit code %d: %s%s", r.code, r.stdout, r.stderr)
	}
	// As it is mostly written, from where it lies and from beside it.
	for _, at := range [][]string{{dir, "./nib100"}, {filepath.Dir(dir), filepath.Base(dir) + "/nib100"}, {"/", "--dir", dir, "./nib100"}} {
		file := filepath.Join(t.TempDir(), "beside.take")
		args := append([]string{"exact", "--once", "--out", file}, at[1:len(at)-1]...)
		cmd := exec.Command(program("entelon"), append(args, "--", at[len(at)-1], "20")...)
		cmd.Dir = at[0]
		if r := finish(t, cmd); r.code != 0 || !strings.Contains(r.stderr, " instructions and ") {
			t.Errorf("%v: exit code %d: %s", at, r.code, r.stderr)
		}
	}
	// Only a part of the run: ten of the twenty calls, each of which does the same.
	part := filepath.Join(dir, "part.take")
	if r := entelon(t, "exact", "--out", part, "--inside", "letter", "--after", "5", "--for-units", "10", "--", filepath.Join(dir, "nib100"), "20"); r.code != 0 {
		t.Fatalf("%s", r.stderr)
	}
	letter := func(file string) (total int64, calls int64) {
		for _, f := range parse[reading.HotJSON](t, "hot", "--json", file).Functions {
			if f.Name == "letter" {
				return f.Total, *f.Calls
			}
		}
		return 0, 0
	}
	whole, _ := letter(a)
	half, calls10 := letter(part)
	if f := parse[reading.FactsJSON](t, "facts", "--json", part); calls10 != 10 || 2*half != whole || f.Measures[0].Total != half || f.Work != 10 || !strings.HasSuffix(f.Workload, "exact run, inside letter after 5 for 10") {
		t.Errorf("%d calls, %d instructions of %d, %d in all, %v units of work, workload %s", calls10, half, whole, f.Measures[0].Total, f.Work, f.Workload)
	}
	fails(t, entelon(t, "exact", "--out", part, "--inside", "no_such", "--", filepath.Join(dir, "nib100"), "20"), "no_such", "no such function")
	fails(t, entelon(t, "exact", "--out", part, "--inside", "letter", "--after", "20", "--", filepath.Join(dir, "nib100"), "20"), "was called 20 times", "nothing was counted")
	fails(t, entelon(t, "exact", "--out", part, "--after", "20", "--", filepath.Join(dir, "nib100"), "20"), "--inside")
	// Each kind is compared with its own.
	var sampled [2]string
	for i, build := range []string{"nib100", "nib101"} {
		sampled[i] = filepath.Join(dir, build+"-sampled.take")
		entelon(t, "take", "--program", "nib", "--build", build, "--out", sampled[i], "--", filepath.Join(dir, build), "20")
	}
	mixed := []string{"compare", "--json", "-b", a, "-b", sampled[0], "-c", b, "-c", sampled[1]}
	if r := entelon(t, mixed...); !strings.Contains(r.stderr, "2 exact takes are left out") || comparison(t, r).Measure != "cpu" {
		t.Errorf("exit code %d: %s", r.code, r.stderr)
	}
	if r := entelon(t, append(mixed, "--measure", "instructions")...); !strings.Contains(r.stderr, "2 sampled takes are left out") || comparison(t, r).Measure != "instructions" {
		t.Errorf("exit code %d: %s", r.code, r.stderr)
	}
	fails(t, entelon(t, "compare", a, sampled[1]), "measured")
	fails(t, entelon(t, "compare", "--limit", "luck=1%", a, b), "there is no measure")
	hot := parse[reading.HotJSON](t, "hot", "--json", "--measure", "calls", a)
	calls := map[string]int64{}
	for _, f := range hot.Functions {
		calls[f.Name] += f.Self
	}
	if calls["letter"] != 20 || calls["rule"] != 20 || calls["main"] != 1 {
		t.Errorf("%d calls of letter, %d of rule, %d of main", calls["letter"], calls["rule"], calls["main"])
	}
	// Probes in the program count the same.
	counted := parse[countJSON](t, "count", "--json", "--function", "letter", "--", filepath.Join(dir, "nib100"), "20")
	if len(counted.Functions) != 1 || counted.Functions[0].Calls != calls["letter"] {
		t.Errorf("count: %+v", counted.Functions)
	}
	if r := entelon(t, "hot", "--limit", "3", a); !strings.Contains(r.stdout, "calls  self a call") {
		t.Errorf("%s", r.stdout)
	}
	for _, f := range parse[reading.HotJSON](t, "hot", "--json", a).Functions {
		if f.Name == "letter" && (f.Calls == nil || *f.Calls != 20) {
			t.Errorf("calls of letter beside its instructions: %v", f.Calls)
		}
	}
	if f := parse[reading.FactsJSON](t, "facts", "--json", a); f.Exact == nil || f.Exact.Runs != 2 || f.Exact.Varying != 0 || f.Exact.Processes != 1 || f.Program != "nib" || f.Build != "nib100" {
		t.Errorf("%+v", f.Exact)
	}
	out := filepath.Join(dir, "sh.take")
	if r := entelon(t, "exact", "--once", "--out", out, "--", "sh", "-c", "echo hello; exit 9"); r.code != 9 || r.stdout != "hello\n" {
		t.Errorf("exit code %d, %q, %q", r.code, r.stdout, r.stderr)
	}
	// What comes through a pipe is read by both runs, and what is not a program of this processor's
	// own rights is said not to be counted.
	cmd := exec.Command(program("entelon"), "exact", "--out", filepath.Join(dir, "cat.take"), "--", "cat")
	cmd.Stdin = io.MultiReader(strings.NewReader(strings.Repeat("stave\n", 1000))) // no file
	var said bytes.Buffer
	cmd.Stderr = &said
	if b, err := cmd.Output(); err != nil || len(b) != 6000 || !strings.Contains(said.String(), "identical, to the last instruction") {
		t.Errorf("%v, %d bytes: %s", err, len(b), said.String())
	}
	left := filepath.Join(dir, "left.take")
	if r := entelon(t, "exact", "--once", "--out", left, "--", "sh", "-c", "exec /bin/su --version"); r.code != 0 || !strings.Contains(r.stdout, "su ") {
		t.Errorf("exit code %d, %q, %q", r.code, r.stdout, r.stderr)
	}
	if f := parse[reading.FactsJSON](t, "facts", "--json", left); f.Exact.Left != 1 || f.Exact.Killed != 0 {
		t.Errorf("%+v", f.Exact)
	}
	fails(t, entelon(t, "exact", "--", filepath.Join(dir, "none")), "not found")
	fails(t, entelon(t, "exact", "--env", "X", "--", "true"), "--env", "NAME=VALUE")
}

// TestExactOfInterpreters: where code was interpreted, or made as it ran, the take and who made it
// are told that its functions do not appear; of shells and compiled programs, nothing is said.
func TestExactOfInterpreters(t *testing.T) {
	for command, name := range map[string]string{"/usr/bin/python3 -c 1": "python3", "perl -e 1": "perl", "sh -c true": "", "true": ""} {
		file := filepath.Join(t.TempDir(), "it.take")
		r := entelon(t, append([]string{"exact", "--once", "--out", file, "--"}, strings.Fields(command)...)...)
		said := ""
		for _, w := range parse[reading.FactsJSON](t, "facts", "--json", file).Warnings {
			if w.Code == "exact-interpreted" {
				said, _, _ = strings.Cut(strings.TrimPrefix(w.Text, "Code ran in "), ",")
			}
		}
		if !strings.HasPrefix(said, name) || (said == "") != (name == "") || strings.Contains(r.stderr, "! Code ran in ") != (name != "") {
			t.Errorf("%s: %q; %s", command, said, r.stderr)
		}
	}
}
