package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestMistakesAreSaidPlainly: one line says what is wrong, where, and what to do, in words
// that are not those of a library.
func TestMistakesAreSaidPlainly(t *testing.T) {
	dir := t.TempDir()
	missing := filepath.Join(dir, "nosuch.take")
	for name, x := range map[string]struct {
		args []string
		says []string
	}{
		"a command that is nearly one": {[]string{"tkae"}, []string{`no command "tkae"`, "did you mean take"}},
		"a command that is none":       {[]string{"engrave"}, []string{`no command "engrave"`, "--help"}},
		"a number that is none":        {[]string{"take", "--rate", "abc", "--", "true"}, []string{`--rate "abc": give a whole number`}},
		"a number that is too large":   {[]string{"take", "--rate", "99999999999999999999", "--", "true"}, []string{"--rate", "too large"}},
		"a share that is none":         {[]string{"take", "--warn-cut", "x", "--", "true"}, []string{`--warn-cut "x": give a number`}},
		"a time that is none":          {[]string{"take", "--for", "x", "--", "true"}, []string{"--for", "write 10s"}},
		"no value":                     {[]string{"take", "--rate"}, []string{"--rate needs a value"}},
		"an option that there is not":  {[]string{"take", "--cgroup", "x"}, []string{"no option --cgroup"}},
		"no file":                      {[]string{"facts"}, []string{"give 1 and not 0 arguments"}},
		"no file of several":           {[]string{"hot"}, []string{"what it is about is missing"}},
		"a file that there is not":     {[]string{"hot", missing}, []string{"nosuch.take: there is no such file"}},
		"a folder":                     {[]string{"hot", dir}, []string{"it is a folder"}},
		"a folder that there is not":   {[]string{"export", newer, "--out", filepath.Join(dir, "no", "x.svg")}, []string{"x.svg: there is no such file or folder"}},
		"a measure that there is not":  {[]string{"take", "-m", "nosuch", "--", "true"}, []string{`no such measure: "nosuch"; choose from cpu`}},
		"a rate and a budget":          {[]string{"take", "--rate", "99", "--budget", "1%", "--", "true"}, []string{"either --rate or --budget"}},
		"a budget of nothing":          {[]string{"take", "--budget", "0.0001%", "--", "true"}, []string{"cannot be kept", "allow more"}},
		"a rate above the kernel's":    {[]string{"take", "--rate", "1000000", "--", "true"}, []string{"the kernel does not allow this rate", "1 to "}},
		"a take in a picture's name":   {[]string{"take", "--out", filepath.Join(dir, "x.svg"), "--", "true"}, []string{"a take is written", "entelon export"}},
		"a function that there is not": {[]string{"export", newer, "--through", "nosuch", "--out", filepath.Join(dir, "x.svg")}, []string{"--through nosuch", "no such function"}},
		"a mark that there is not":     {[]string{"export", newer, "--focus", "nosuch", "--out", filepath.Join(dir, "x.svg")}, []string{"--focus nosuch", "no such function"}},
		"a kernel thread":              {[]string{"take", "--pid", "2", "--for", "1s"}, []string{"a kernel thread", "--machine"}},
	} {
		t.Run(name, func(t *testing.T) {
			r := entelon(t, x.args...)
			fails(t, r, x.says...)
			for _, leak := range []string{"strconv", "syscall.", "lstat", ".entelon-", "; ;", `\x09`} {
				if strings.Contains(r.stderr, leak) {
					t.Errorf("%q in %q", leak, r.stderr)
				}
			}
		})
	}
	if left, err := filepath.Glob(filepath.Join(dir, "*")); err != nil || len(left) != 0 {
		t.Errorf("left behind: %v, %v", left, err)
	}
}

// TestNothingIsWrittenOver: a take is not lost to another one, nor to what is made of it.
func TestNothingIsWrittenOver(t *testing.T) {
	dir := t.TempDir()
	b, err := os.ReadFile(newer)
	if err != nil {
		t.Fatal(err)
	}
	x, y := filepath.Join(dir, "x.take"), filepath.Join(dir, "y.take")
	for _, f := range []string{x, y} {
		if err := os.WriteFile(f, b, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	intact := func(f string) {
		t.Helper()
		if now, err := os.ReadFile(f); err != nil || string(now) != string(b) {
			t.Errorf("%s is another one: %d of %d bytes, %v", f, len(now), len(b), err)
		}
	}
	link := filepath.Join(dir, "link.take")
	if err := os.Symlink(x, link); err != nil {
		t.Fatal(err)
	}
	for _, out := range []string{x, link} {
		fails(t, entelon(t, "export", x, "--out", out), "would overwrite", "another name")
		intact(x)
	}
	fails(t, entelon(t, "compare", older, x, "--report", x), "--report", "would overwrite")
	intact(x)
	for _, aside := range []string{y + ".1", y + ".2"} {
		if r := entelon(t, "export", older, "--out", y, "--as", "take"); r.code != 0 || !strings.Contains(r.stderr, "it is now "+aside) {
			t.Fatalf("exit %d, %s", r.code, r.stderr)
		}
	}
	intact(y + ".1")
	// What is there of another take is a take, too, however little.
	cut := filepath.Join(dir, "cut.take")
	if err := os.WriteFile(cut, b[:200], 0o644); err != nil {
		t.Fatal(err)
	}
	if r := entelon(t, "export", newer, "--out", cut); r.code != 0 || !strings.Contains(r.stderr, cut+".1") {
		t.Errorf("exit %d, %s", r.code, r.stderr)
	}
	if r := entelon(t, "compare", older, newer, "--report", filepath.Join(dir, "r.html")); strings.Contains(r.stderr, "there already") {
		t.Error(r.stderr)
	}
}

// TestACommandThatASignalEnds: it is said which, and why that may be.
func TestACommandThatASignalEnds(t *testing.T) {
	r := entelon(t, "take", "--out", filepath.Join(t.TempDir(), "x.take"), "--", "sh", "-c", "kill -SEGV $$")
	if r.code != 139 || !strings.Contains(r.stderr, "ended by SIGSEGV: it used memory that it does not have") {
		t.Errorf("exit %d, %s", r.code, r.stderr)
	}
}
