package runtimes

import (
	"strings"
	"testing"

	"entelon/core/profile"
	"entelon/runtimes/arguments"
)

// press is a made-up runtime: adding one takes a folder and a line.
type press struct{}

func (press) Name() string                { return "Press" }
func (press) Executable(file string) bool { return file == "press" }
func (press) Library(file string) bool    { return file == "libpress.so" }
func (press) Launch(log string) []string  { return []string{"--names=" + log} }
func (press) KindOf(string) profile.ModuleKind {
	return profile.KindOwn
}

func (press) Script(args []string) (name, file string) {
	file, _ = arguments.First(args, []string{"--ink"}, func(string, []string) bool { return false })
	return "", file
}

func TestARuntimeMore(t *testing.T) {
	before := All
	defer func() { All = before }()
	All = append(All[:len(All):len(All)], press{})
	if s := ScriptOf("/usr/bin/press", []string{"press", "--ink", "black", "sheets/full.plate", "--x"}, "/shop"); s.Name != "full" || s.Path != "/shop/sheets/full.plate" {
		t.Errorf("%+v", s)
	}
	if p := Prepare("/usr/bin/press", []string{"press", "full.plate"}, "/tmp/l"); p.Set != "press is started with --names=/tmp/l" || len(p.Args) != 3 {
		t.Errorf("%+v", p)
	}
	for command, want := range map[string]string{"erl -s f": "erl +JPperf map -s f", "erl +JPperf true -s f": "erl +JPperf true -s f"} {
		if p := Prepare("/usr/bin/erl", strings.Fields(command), ""); strings.Join(p.Args, " ") != want {
			t.Errorf("%s is started as %q", command, p.Args)
		}
	}
	if Of("press") == nil || Of("libpress.so") != nil || Holding("libpress.so") == nil {
		t.Error("its files are not recognised")
	}
}

func TestFilesOfRuntimes(t *testing.T) {
	for file, want := range map[string]string{"python3.11": "CPython", "python": "CPython", "libpython3.11.so.1.0": "CPython", "node": "Node.js", "libnode.so.108": "Node.js", "libjvm.so": "Java", "java": "Java", "javac": "", "beam.smp": "Erlang", "erl": "Erlang", "pythonista": "", "engraved": ""} {
		got := ""
		if r := Holding(file); r != nil {
			got = r.Name()
		}
		if got != want {
			t.Errorf("%s holds %q, want %q", file, got, want)
		}
	}
}
