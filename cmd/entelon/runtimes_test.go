package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"entelon/cmd/entelon/reading"
	"entelon/linux/perf"
)

// script writes a script and returns its path.
func script(t *testing.T, name, text string) string {
	t.Helper()
	p := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(p, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	return p
}

// taken takes a command and returns its hot functions by name, and its facts.
func taken(t *testing.T, words ...string) (file string, hot map[string]reading.FunctionOut, facts reading.FactsJSON, r result) {
	t.Helper()
	if err := perf.Allowed(); err != nil {
		t.Skip(err)
	}
	file = filepath.Join(t.TempDir(), "x.take")
	r = entelon(t, append([]string{"take", "--out", file}, words...)...)
	if r.code != 0 {
		t.Fatalf("exit code %d: %s", r.code, r.stderr)
	}
	hot = map[string]reading.FunctionOut{}
	for _, f := range parse[reading.HotJSON](t, "hot", "--json", file).Functions {
		hot[f.Name] = f
	}
	return file, hot, parse[reading.FactsJSON](t, "facts", "--json", file), r
}

func needs(t *testing.T, programs ...string) {
	t.Helper()
	for _, p := range programs {
		if _, err := exec.LookPath(p); err != nil {
			t.Skip(err)
		}
	}
}

const partScript = `import sys
def bars(n):
    x = 0
    for i in range(n):
        x = (x * 31 + i) % 1000003
    return x
def pull(n):
    return sorted(range(n), key=lambda k: bars(300) + k)
for _ in range(30):
    pull(250)
sys.exit(3)
`

// TestPython: a script is taken under its own name; its functions have files
// and lines, and are told from the interpreter, which can be folded away.
func TestPython(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("reading an interpreter's frames needs root")
	}
	needs(t, "/usr/bin/python3")
	path := script(t, "partscript.py", partScript)
	file := filepath.Join(t.TempDir(), "x.take")
	if r := entelon(t, "take", "--out", file, "--", "/usr/bin/python3", path); r.code != 3 {
		t.Fatalf("exit code %d, the script's is 3: %s", r.code, r.stderr)
	}
	facts := parse[reading.FactsJSON](t, "facts", "--json", file)
	if facts.Program != "partscript" || len(facts.Build) != 12 || facts.Interpreted < facts.Samples/2 || facts.Torn > facts.Samples/20 {
		t.Errorf("%s %s, %d of %d samples interpreted, %d torn", facts.Program, facts.Build, facts.Interpreted, facts.Samples, facts.Torn)
	}
	whole := parse[reading.HotJSON](t, "hot", "--json", file)
	folded := parse[reading.HotJSON](t, "hot", "--json", "--fold", "runtime", file)
	var sum, before int64
	runtime := 0
	seen := map[string]reading.FunctionOut{}
	for _, f := range folded.Functions {
		sum += f.Self
		seen[f.Short] = f
		if f.Kind == "runtime" {
			runtime++
		}
	}
	for _, f := range whole.Functions {
		before += f.Self
	}
	if sum != folded.Total || before != sum || len(folded.Functions) >= len(whole.Functions) || runtime > 3 {
		t.Errorf("folded %d of %d, before %d; %d of the runtime are left", sum, folded.Total, before, runtime)
	}
	if len(seen) < 4 {
		t.Errorf("%+v", folded.Functions)
	}
	for name, line := range map[string]uint32{"bars": 2, "pull": 7, "pull.<lambda>": 8, "<module> partscript.py": 1} {
		if f := seen[name]; f.Runs != "interpreted" || f.Kind != "own" || f.File != path || f.Line != line || f.TotalShare < 0.7 {
			t.Errorf("%s: %+v", name, f)
		}
	}
	if f := seen["bars"]; f.SelfShare < 0.8 {
		t.Errorf("bars has %.2f of the time", f.SelfShare)
	}
	fails(t, entelon(t, "hot", "--fold", "kernel", file), "--fold kernel", "runtime")
}

const leafScript = `function spread(n) { let x = 0; for (let i = 0; i < n; i++) x = (x * 31 + i) % 1000003; return x; }
let s = 0;
const end = Date.now() + 700;
while (Date.now() < end) s += spread(200000);
process.stdout.write('done ' + (s > 0));
`

// TestNode: functions made at run time have names, what was added to the
// command for that is said, and nothing else about it changes.
func TestNode(t *testing.T) {
	needs(t, "node")
	path := script(t, "leaves.js", leafScript)
	_, hot, facts, r := taken(t, "--", "node", path)
	f := hot["spread"]
	top := 0.0
	for _, x := range hot {
		if x.File == path {
			top += x.SelfShare
		}
	}
	if top < 0.5 || f.Name != "" && (f.Runs != "made at run time" || f.Kind != "own" || f.Line != 1) {
		t.Errorf("%.2f of the time is the script's; %+v", top, f)
	}
	if facts.Program != "leaves" || r.stdout != "done true" || !strings.Contains(r.stderr, "node is started with --perf-basic-prof") {
		t.Errorf("%s: %q %q", facts.Program, r.stdout, r.stderr)
	}
	left, err := filepath.Glob("/tmp/perf-*.map")
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range left {
		if strings.Contains(m, fmt.Sprintf("perf-%d.map", facts.Processes[0].PID)) {
			t.Errorf("%s was left", m)
		}
	}
	if logs, err := filepath.Glob("isolate-*"); err != nil || len(logs) > 0 {
		t.Errorf("the runtime left %v in the current folder", logs)
	}
	_, hot, facts, r = taken(t, "--as-is", "--", "node", path)
	if strings.Contains(r.stderr, "is started with") || hot["spread"].Name != "" {
		t.Errorf("something was set: %s", r.stderr)
	}
	said := false
	for _, w := range facts.Warnings {
		said = said || w.Code == "no-map" && strings.Contains(w.Remedy, "--perf-basic-prof")
	}
	if !said {
		t.Errorf("nothing says why names are missing: %+v", facts.Warnings)
	}
}

const pressSource = `public class Press {
	static long ink(int n) { long x = 0; for (int i = 0; i < n; i++) x = (x * 31 + i) % 1000003; return x; }
	public static void main(String[] a) {
		long s = 0, end = System.currentTimeMillis() + 1200;
		while (System.currentTimeMillis() < end) s += ink(300000);
		System.out.print("done " + (s > 0));
	}
}
`

// TestJava: compiled methods have names, and what is missing without frame
// pointers is said with its remedy.
func TestJava(t *testing.T) {
	needs(t, "java", "javac")
	source := script(t, "Press.java", pressSource)
	if text, err := exec.Command("javac", source).CombinedOutput(); err != nil {
		t.Fatalf("%s", text)
	}
	dir := filepath.Dir(source)
	_, hot, facts, r := taken(t, "--", "java", "-cp", dir, "Press")
	f := reading.FunctionOut{Name: "Press.ink(int)"}
	for name, x := range hot { // it may have been compiled into its caller
		if strings.HasPrefix(name, "Press.") {
			f.SelfShare += x.SelfShare
			f.Kind, f.Runs = x.Kind, x.Runs
		}
	}
	if f.SelfShare < 0.5 || f.Kind != "own" || f.Runs != "made at run time" || r.stdout != "done true" || facts.Program != "Press" {
		t.Errorf("%s: %+v; %q; %s", facts.Program, f, r.stdout, r.stderr)
	}
	_, _, facts, _ = taken(t, "--as-is", "--", "java", "-cp", dir, "Press")
	said := false
	for _, w := range facts.Warnings {
		said = said || w.Code == "java-frames" && strings.Contains(w.Remedy, "-XX:+PreserveFramePointer")
	}
	if !said {
		t.Errorf("nothing says what is missing: %+v", facts.Warnings)
	}
}

// TestAnotherUserLaunches: who is not root may sample his own commands, and is
// told what that cannot show of a program in Python.
func TestAnotherUserLaunches(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can become another user")
	}
	needs(t, "/usr/bin/python3")
	path := script(t, "partscript.py", partScript)
	dir, err := os.MkdirTemp("", "entelon-other-*")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	for _, p := range []string{bin, filepath.Dir(path), filepath.Dir(filepath.Dir(path)), dir} {
		if err := os.Chmod(p, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Chown(dir, 65534, 65534); err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(dir, "x.take")
	cmd := exec.Command(program("entelon"), "take", "--symbol-cache", "off", "--out", file, "--", "/usr/bin/python3", path)
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	if r := finish(t, cmd); r.code != 3 {
		t.Skipf("this machine does not let other users sample at all: %s", r.stderr)
	}
	facts := parse[reading.FactsJSON](t, "facts", "--json", file)
	said := false
	for _, w := range facts.Warnings {
		said = said || w.Code == "interpreter" && w.Remedy == "Collect as root."
	}
	if !said || facts.Interpreted != 0 || facts.Samples == 0 {
		t.Errorf("%d samples, %d interpreted, %+v", facts.Samples, facts.Interpreted, facts.Warnings)
	}
}

const probedScript = `import os

def cut_page(n):
    return [bytearray(5000 + i) for i in range(n)]

def cue_rests(n):
    for i in range(n):
        os.getppid()

for k in range(20):
    cut_page(50)
    cue_rests(100)
`

// TestPythonAtProbes: functions of a script are seen where calls are counted,
// too, and have all of them.
func TestPythonAtProbes(t *testing.T) {
	mustSample(t)
	needs(t, "/usr/bin/python3")
	path := script(t, "probed.py", probedScript)
	for measure, want := range map[string]struct {
		shown, function string
		exactly, least  int64
	}{
		"syscalls":    {"syscalls", "cue_rests", 2000, 0},
		"allocations": {"allocated", "cut_page", 0, 20 * 50 * 5000},
	} {
		file := filepath.Join(t.TempDir(), "x.take")
		if r := entelon(t, "take", "--out", file, "--measure", measure, "--", "/usr/bin/python3", path); r.code != 0 {
			t.Fatal(r.stderr)
		}
		facts := parse[reading.FactsJSON](t, "facts", "--json", file)
		if facts.Interpreted == 0 {
			for _, w := range facts.Warnings {
				if w.Code == "interpreter" {
					t.Skip(w.Text)
				}
			}
		}
		all := parse[reading.HotJSON](t, "hot", "--json", "--measure", want.shown, file)
		var got int64
		for _, f := range all.Functions {
			if f.Name == want.function {
				got = f.Total
			}
		}
		if want.exactly > 0 && got != want.exactly || got < want.least {
			t.Errorf("%s: %s has %d of %d", measure, want.function, got, all.Total)
		}
		if facts.CompleteShare < 0.995 {
			t.Errorf("%s: %.4f of the stacks are complete", measure, facts.CompleteShare)
		}
	}
}
