package truth

import (
	"encoding/json"
	"flag"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

var mutants = flag.Bool("mutants", false, "hold the tests against samplers with faults built in")

// mutant is a fault that is put into the sampler's source.
type mutant struct {
	name, file, old, new string
	caught               string // by these tests
}

// Mutants are the faults. Each is an edit of one place, which has to be there once.
var Mutants = []mutant{
	{"every tenth sample is dropped", "capture/pairing/consumer.go",
		"func (c *Consumer) sampled(r *raw.Record) error {\n", "var mutant int\n\nfunc (c *Consumer) sampled(r *raw.Record) error {\n\tif mutant++; mutant%10 == 0 {\n\t\treturn nil\n\t}\n", "TestTicks"},
	{"one frame too few", "resolve/keep.go",
		"\tfor i := len(program) - 1; i >= 0; i-- {\n", "\tfor i := len(program) - 1; i >= min(1, len(program)-1); i-- {\n", "TestShort"},
	{"a wrong line", "resolve/names.go",
		"Line: l.Line,", "Line: l.Line + 1,", "TestLines"},
	{"inlined frames are left out", "resolve/names.go",
		"\tfor _, l := range mod.Locate(x.address) {\n", "\tall := mod.Locate(x.address)\n\tfor _, l := range all[len(all)-1:] {\n", "TestShort"},
	{"two functions are exchanged", "resolve/names.go",
		"func (n *names) frame(l symbol.Location,", "func (n *names) frame(l symbol.Location, m profile.ModuleID, addr uint64, module string, found profile.Found) profile.FrameID {\n\tif other, ok := map[string]string{\"level\": \"shade\", \"shade\": \"level\", \"press\": \"main\", \"main\": \"press\"}[l.Name]; ok {\n\t\tl.Name = other\n\t}\n\treturn n.mutated(l, m, addr, module, found)\n}\n\nfunc (n *names) mutated(l symbol.Location,", "TestShort|TestLines"},
	{"waits are counted twice", "capture/pairing/waits.go",
		"\t\tw.r.Keep(x.Seen, w.r.Mark(x.reason), w.r.Value(w.column, int64(wait)))\n", "\t\tw.r.Keep(x.Seen, w.r.Mark(x.reason), w.r.Value(w.column, int64(wait)))\n\t\tw.r.Keep(x.Seen, w.r.Mark(x.reason), w.r.Value(w.column, int64(wait)))\n", "TestWaiting"},
}

// with builds entelon with an edit, without changing the source.
func (m mutant) with(t *testing.T) string {
	t.Helper()
	text, err := os.ReadFile(m.file)
	if err != nil {
		t.Fatal(err)
	}
	if n := strings.Count(string(text), m.old); n != 1 {
		t.Fatalf("%s: its place in %s is there %d times", m.name, m.file, n)
	}
	dir := t.TempDir()
	edited := filepath.Join(dir, "edited.go")
	if err := os.WriteFile(edited, []byte(strings.Replace(string(text), m.old, m.new, 1)), 0o644); err != nil {
		t.Fatal(err)
	}
	original, err := filepath.Abs(m.file)
	if err != nil {
		t.Fatal(err)
	}
	overlay, err := json.Marshal(map[string]any{"Replace": map[string]string{original: edited}})
	if err == nil {
		err = os.WriteFile(filepath.Join(dir, "overlay.json"), overlay, 0o644)
	}
	if err != nil {
		t.Fatal(err)
	}
	out := filepath.Join(dir, "entelon")
	if err := run("go", "build", "-overlay", filepath.Join(dir, "overlay.json"), "-o", out, "./cmd/entelon"); err != nil {
		t.Fatal(err)
	}
	return out
}

// TestMutants: each fault still has its place. That each is caught is what make
// truth-mutants shows, which takes minutes.
func TestMutants(t *testing.T) {
	t.Chdir("..")
	for _, m := range Mutants {
		text, err := os.ReadFile(m.file)
		if err != nil {
			t.Fatal(err)
		}
		if n := strings.Count(string(text), m.old); n != 1 {
			t.Errorf("%s: its place in %s is there %d times", m.name, m.file, n)
		}
	}
	if !*mutants {
		return
	}
	for _, m := range Mutants {
		t.Run(m.name, func(t *testing.T) {
			cmd := exec.Command("go", "test", "-count=1", "-v", "-run", "^("+m.caught+")$", "./truth", "-binary", m.with(t))
			out, err := cmd.CombinedOutput()
			var why []string
			for _, line := range strings.Split(string(out), "\n") {
				if strings.Contains(line, "_test.go:") || strings.HasPrefix(line, "--- FAIL") {
					why = append(why, strings.TrimSpace(line))
				}
			}
			if !strings.Contains(string(out), "--- FAIL") || err == nil {
				t.Errorf("nobody noticed: %s", strings.Join(why, "; "))
				return
			}
			t.Logf("caught: %s", strings.Join(why[max(0, len(why)-3):], "; "))
		})
	}
}
