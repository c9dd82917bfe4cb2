package sampler

import (
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"entelon/linux/bpf"

	"entelon/linux/perf"

	"entelon/core/profile"
	"entelon/runtimes/python"
	"entelon/symbol"
)

func written(t *testing.T, name, text string) string {
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

// TestReadCPython: an interpreter is recognised by what it publishes; one
// whose frames cannot be read says why.
func TestReadCPython(t *testing.T) {
	const version = "const unsigned long Py_Version = %s; unsigned long _PyRuntime[4096] = {1};"
	for name, c := range map[string]struct {
		file, source, flags string
		err                 string // "none": it is no interpreter; "": its frames can be read
	}{
		"3.11":               {"python3.11", strings.ReplaceAll(version, "%s", "0x030b02f0"), "", ""},
		"3.11 in an own one": {"engraver", strings.ReplaceAll(version, "%s", "0x030b02f0"), "", ""},
		"3.99":               {"python3.99", strings.ReplaceAll(version, "%s", "0x036300f0"), "", "CPython 3.99: its frames cannot be read"},
		"3.10":               {"python3.10", "unsigned long _PyRuntime[99] = {1};", "", "before 3.11"},
		"3.6":                {"python3.6", "int Py_Main(void) { return 1; }", "", "before 3.11"},
		"stripped":           {"python3.11", "int work(void) { return 1; }", "-s", "stripped"},
		"no interpreter":     {"engraver", "int work(void) { return 1; }", "", "none"},
	} {
		src := written(t, "x.c", c.source)
		out := filepath.Join(t.TempDir(), c.file)
		if text, err := exec.Command("gcc", append(strings.Fields(c.flags), "-shared", "-fPIC", "-fvisibility=hidden", "-o", out, src)...).CombinedOutput(); err != nil {
			t.Fatalf("%s", text)
		}
		f, err := os.Open(out)
		if err != nil {
			t.Fatal(err)
		}
		o, err := symbol.OpenObject(f, out, profile.KindRuntime, nil)
		if err != nil {
			t.Fatal(err)
		}
		got := readCPython(o)
		switch {
		case c.err == "none":
			if got != nil {
				t.Errorf("%s: %+v", name, got)
			}
		case got == nil:
			t.Errorf("%s: it was not recognised", name)
		case c.err == "" && got.err != nil, c.err != "" && (got.err == nil || !strings.Contains(got.err.Error(), c.err)):
			t.Errorf("%s: %v, want %q", name, got.err, c.err)
		}
		if err := o.Close(); err != nil {
			t.Error(err)
		}
	}
}

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
		if got := scriptOf(args[0], args, "/shop"); got.name+" "+got.path != want {
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
	s := script{name: "partbook", path: filepath.Join(dir, "partbook.py")}
	first := s.build()
	put("full.score", "notes")
	put(".venv/x.py", "y")
	if got := s.build(); got != first || len(got) != 12 {
		t.Errorf("%s, before %s", got, first)
	}
	put("score.py", "x = 2")
	if s.build() == first {
		t.Error("another source is the same build")
	}
	if (script{name: "shop"}).build() != "" {
		t.Error("what has no file has a build")
	}
}

func TestPlanLaunch(t *testing.T) {
	const node = "--perf-basic-prof --interpreted-frames-native-stack --no-logfile-per-isolate --logfile=/tmp/x.log"
	script := written(t, "turn", "#!/usr/bin/node\n")
	for _, c := range []struct{ path, command, run, args, set string }{
		{"/usr/bin/node", "node turn.js 1", "/usr/bin/node", "node " + node + " turn.js 1", "node is started with " + node},
		{"/usr/bin/node", "node " + node + " x.js", "/usr/bin/node", "node " + node + " x.js", ""},
		{"/usr/bin/java", "java -jar x.jar", "/usr/bin/java", "java -XX:+PreserveFramePointer -XX:+UnlockDiagnosticVMOptions -XX:+DumpPerfMapAtExit -jar x.jar", "PreserveFramePointer"},
		{"/usr/bin/python3", "python3 x.py", "/usr/bin/python3", "python3 x.py", ""},
		{"/shop/engraved", "engraved", "/shop/engraved", "engraved", ""},
		{script, script + " 1", "/usr/bin/node", "/usr/bin/node " + node + " " + script + " 1", "node is started with"},
	} {
		p := planLaunch(c.path, strings.Fields(c.command), "/tmp/x.log")
		if p.Path != c.run || strings.Join(p.Args, " ") != c.args || !strings.Contains(p.Set, c.set) || (c.set == "") != (p.Set == "") {
			t.Errorf("%s: %s %q, %q", c.command, p.Path, p.Args, p.Set)
		}
	}
}

func TestJavaNames(t *testing.T) {
	for name, want := range map[string]string{
		"long shop.print.Press.ink(int)":                      "shop.print.Press.ink(int) shop.print own",
		"java.lang.String java.lang.StringBuilder.toString()": "java.lang.StringBuilder.toString() java.lang runtime",
		"void Press.main(java.lang.String[])":                 "Press.main(java.lang.String[]) [java] own",
		"Interpreter":                                         "Interpreter [java] runtime",
		"StubRoutines (1)":                                    "StubRoutines (1) [java] runtime",
		"void shop.Press$Page.turn(java.util.Map, int)":       "shop.Press$Page.turn(java.util.Map, int) shop own",
	} {
		if got := javaName(name) + " " + javaPackage(name) + " " + whoseJava(name).String(); got != want {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
	}
}

func TestInterpreterOf(t *testing.T) {
	if _, err := exec.LookPath("sh"); err != nil {
		t.Skip(err)
	}
	deep := written(t, "a", "#!/bin/sh -e\n")
	for text, want := range map[string]string{
		"#!/usr/bin/python3\n": "/usr/bin/python3", "#! /bin/sh -e\n": "/bin/sh", "#!" + deep + "\n": "/bin/sh",
		"#!/usr/bin/env -S A=b sh\n": "sh", "no script\n": "", "#!\n": "", "#!/x": "",
	} {
		p := written(t, "script", text)
		got := interpreterOf(p)
		if want == "" && got != p || want != "" && filepath.Base(got) != filepath.Base(want) {
			t.Errorf("%q: %s, want %s", text, got, want)
		}
	}
}

// TestOpenMap takes no map that another user or an earlier process has left.
func TestOpenMap(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("files of other users need root")
	}
	cmd := exec.Command("sleep", "30")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }()
	pid := uint32(cmd.Process.Pid)
	path := filepath.Join("/tmp", "perf-"+strconv.Itoa(int(pid))+".map")
	defer os.Remove(path)
	try := func(want string) {
		t.Helper()
		f, err := openMap(pid, time.Now())
		if err == nil {
			f.Close()
		}
		if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
	try("writes no map")
	if err := os.WriteFile(path, []byte("1000 10 x\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	try("")
	if err := os.Chtimes(path, time.Time{}, time.Now().Add(-time.Hour)); err != nil {
		t.Fatal(err)
	}
	try("earlier process")
	if err := os.Chtimes(path, time.Time{}, time.Now()); err != nil {
		t.Fatal(err)
	}
	if err := os.Chown(path, 65534, 65534); err != nil {
		t.Fatal(err)
	}
	try("another user")
}

// TestCodeOfTheNextProgram: a code object that was read before the record of
// the exec came in its turn belongs to the program that came after.
func TestCodeOfTheNextProgram(t *testing.T) {
	r := newResolver(profile.NewBuilder(), &profile.Facts{}, nil)
	p := r.ps.fresh(10)
	for i, at := range []uint64{100, 300} {
		body := make([]byte, bpf.BeforeOther+bpf.OtherHeader)
		body[bpf.BeforeOther+bpf.OtherAddr] = byte(i + 1)
		r.learnCode(perf.Record{PID: 10, Time: at, Body: body})
	}
	if len(p.codes.raw) != 2 {
		t.Fatalf("%d code objects are known", len(p.codes.raw))
	}
	r.ps.comm(10, 10, "partbook", true, 200)
	if len(p.codes.raw) != 1 || p.codes.raw[python.Identity{Address: 2}].at != 300 {
		t.Errorf("after the exec, %v", p.codes.raw)
	}
}
