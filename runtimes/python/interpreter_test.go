package python_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"entelon/core/profile"
	"entelon/runtimes/python"
	"entelon/symbol"
)

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
		src := filepath.Join(t.TempDir(), "x.c")
		if err := os.WriteFile(src, []byte(c.source), 0o644); err != nil {
			t.Fatal(err)
		}
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
		got := python.Find(o)
		switch {
		case c.err == "none":
			if got != nil {
				t.Errorf("%s: %+v", name, got)
			}
		case got == nil:
			t.Errorf("%s: it was not recognised", name)
		case c.err == "" && got.Err != nil, c.err != "" && (got.Err == nil || !strings.Contains(got.Err.Error(), c.err)):
			t.Errorf("%s: %v, want %q", name, got.Err, c.err)
		}
		if err := o.Close(); err != nil {
			t.Error(err)
		}
	}
}
