package runtimes

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

func TestScriptOf(t *testing.T) {
	for command, want := range map[string]string{
		"python3 partbook.py full.score":                 "partbook /shop/partbook.py",
		"/usr/bin/python3.11 -X dev -u -W ignore a/b.py": "b /shop/a/b.py",
		"python3 -m shop.partbook x":                     "shop.partbook ",
		"python3 -c pass":                                " ",
		"python3":                                        " ",
		"node --perf-basic-prof -r ./x.js dist/turn.js":  "turn /shop/dist/turn.js",
		"node -e 1":                                      " ",
		"java -Xmx1g -cp lib:x shop.print.Press 3":       "Press ",
		"java -jar press.jar":                            "press /shop/press.jar",
		"./engraved --scores 3":                          " ",
	} {
		args := strings.Fields(command)
		if got := ScriptOf(args[0], args, "/shop"); got.Name+" "+got.Path != want {
			t.Errorf("%s: %+v, want %q", command, got, want)
		}
	}
}

// TestBuildOfAScript changes with any of its sources, and with nothing else.
func TestBuildOfAScript(t *testing.T) {
	dir := t.TempDir()
	put := func(name, text string) {
		p := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(p, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	put("partbook.py", "import score")
	put("score.py", "x = 1")
	s := Script{Name: "partbook", Path: filepath.Join(dir, "partbook.py")}
	first := s.Build()
	put("full.score", "notes")
	put(".venv/x.py", "y")
	if got := s.Build(); got != first || len(got) != 12 {
		t.Errorf("%s, before %s", got, first)
	}
	put("score.py", "x = 2")
	if s.Build() == first {
		t.Error("another source is the same build")
	}
	if (Script{Name: "shop"}).Build() != "" {
		t.Error("what has no file has a build")
	}
}

func TestPlanLaunch(t *testing.T) {
	const node = "--perf-basic-prof --interpreted-frames-native-stack --no-logfile-per-isolate --logfile=/tmp/x.log"
	script := textFile(t, "turn", "#!/usr/bin/node\n")
	for _, c := range []struct{ path, command, run, args, set string }{
		{"/usr/bin/node", "node turn.js 1", "/usr/bin/node", "node " + node + " turn.js 1", "node is started with " + node},
		{"/usr/bin/node", "node " + node + " x.js", "/usr/bin/node", "node " + node + " x.js", ""},
		{"/usr/bin/java", "java -jar x.jar", "/usr/bin/java", "java -XX:+PreserveFramePointer -XX:+UnlockDiagnosticVMOptions -XX:+DumpPerfMapAtExit -jar x.jar", "PreserveFramePointer"},
		{"/usr/bin/python3", "python3 x.py", "/usr/bin/python3", "python3 x.py", ""},
		{"/shop/engraved", "engraved", "/shop/engraved", "engraved", ""},
		{script, script + " 1", "/usr/bin/node", "/usr/bin/node " + node + " " + script + " 1", "node is started with"},
		{textFile(t, "turn", "#!/usr/bin/node --max-old-space-size=99\n"), "turn 1", "", "turn 1", ""},
	} {
		if c.run == "" {
			c.run = c.path
		}
		p := Prepare(c.path, strings.Fields(c.command), "/tmp/x.log")
		if p.Path != c.run || strings.Join(p.Args, " ") != c.args || !strings.Contains(p.Set, c.set) || (c.set == "") != (p.Set == "") {
			t.Errorf("%s: %s %q, %q", c.command, p.Path, p.Args, p.Set)
		}
	}
}

func TestInterpreterOf(t *testing.T) {
	if _, err := exec.LookPath("sh"); err != nil {
		t.Skip(err)
	}
	deep := textFile(t, "a", "#!/bin/sh -e\n")
	for text, want := range map[string]string{
		"#!/usr/bin/python3\n": "/usr/bin/python3", "#! /bin/sh -e\n": "/bin/sh", "#!" + deep + "\n": "/bin/sh",
		"#!/usr/bin/env -S A=b sh\n": "sh", "no script\n": "", "#!\n": "", "#!/x": "",
	} {
		p := textFile(t, "script", text)
		got := InterpreterOf(p)
		if want == "" && got != p || want != "" && filepath.Base(got) != filepath.Base(want) {
			t.Errorf("%q: %s, want %s", text, got, want)
		}
	}
}

// textFile writes a file that can be run.
func textFile(t *testing.T, name, text string) string {
	t.Helper()
	p := filepath.Join(t.TempDir(), name)
	if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(p, []byte(text), 0o755); err != nil {
		t.Fatal(err)
	}
	return p
}
