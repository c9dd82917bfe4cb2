package main

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// changed is a source file with something put behind one of its lines.
func changed(t *testing.T, dir, path, behind, text string) string {
	t.Helper()
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if strings.Count(string(b), behind) != 1 {
		t.Fatalf("%s has %q not once", path, behind)
	}
	out := filepath.Join(dir, filepath.Base(path))
	if err := os.WriteFile(out, []byte(strings.Replace(string(b), behind, behind+text, 1)), 0o600); err != nil {
		t.Fatal(err)
	}
	return out
}

func compiled(t *testing.T, name string, args ...string) {
	t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Dir = "../.."
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
}

// TestExactFindsASmallChange: a fifth of a percent of the rasteriser, and of the engraving service
// with its goroutines and its garbage, is found from one exact take a side, named with calls and
// cost a call, and stops the gate; the same build does not.
func TestExactFindsASmallChange(t *testing.T) {
	dir := t.TempDir()
	find := func(program, where string, env []string, args ...string) {
		t.Helper()
		take := func(name, build string) string {
			out := filepath.Join(dir, name+".take")
			words := []string{"exact", "--program", program, "--build", build, "--out", out}
			for _, kv := range env {
				words = append(words, "--env", kv)
			}
			if r := entelon(t, append(append(words, "--", filepath.Join(dir, program+"-"+build)), args...)...); r.code != 0 {
				t.Fatalf("%s", r.stderr)
			}
			return out
		}
		var before, after string
		// Where its threads meet differs by itself, on a machine that is busy with others by more than
		// is to be found; that is said, and then it is tried again.
		for try := 1; ; try++ {
			before = take(program+"-1", "before")
			r := entelon(t, "compare", "--json", "--limit", "instructions=0.1%", before, take(program+"-2", "before"))
			if r.code == 0 {
				break
			}
			if w := comparison(t, r).Whole; r.code != 2 || w.Verdict != "no change shown" || try == 4 {
				t.Fatalf("%s and itself: exit code %d, %+v", program, r.code, w)
			}
		}
		var r result
		for try := 1; try <= 4; try++ {
			after = take(program+"-3", "after")
			if r = entelon(t, "compare", "--json", "--limit", "instructions=0.1%", before, after); r.code != 2 {
				break
			}
		}
		c := comparison(t, r)
		if rise := c.Whole.Ratio - 1; r.code != 1 || rise < 0.001 || rise > 0.004 {
			t.Errorf("%s: exit code %d, %+.3f %% (%+v)", program, r.code, 100*rise, c.Whole)
		}
		if len(c.Suspects) == 0 || !strings.Contains(strings.Join(c.Suspects[0].Path, " "), where) {
			t.Errorf("%s: the first suspect is not %s: %+v", program, where, c.Suspects)
		}
		for _, f := range c.Functions {
			if strings.Contains(f.Name, where) && (len(f.Calls) != 2 || f.Calls[0] < 100 || f.Calls[0] != f.Calls[1] || f.Total.Verdict != "slower") {
				t.Errorf("%s: %+v", program, f)
			}
		}
	}
	// The rasteriser: each call of blend does a little more.
	raster := changed(t, dir, "../../demo/inkraster/raster.cc", "void Page::blend(int y, int from, int to, uint8_t tone) {", " volatile int drop = from; drop = drop + 1;")
	sources, err := filepath.Glob("../../demo/inkraster/*.cc")
	if err != nil {
		t.Fatal(err)
	}
	for build, file := range map[string]string{"before": "demo/inkraster/raster.cc", "after": raster} {
		args := []string{"-std=c++17", "-O2", "-g", "-fomit-frame-pointer", "-pthread", "-Idemo/inkraster", "-DBUILD=120", "-o", filepath.Join(dir, "inkraster-"+build), file}
		for _, s := range sources {
			if filepath.Base(s) != "raster.cc" {
				args = append(args, strings.TrimPrefix(s, "../../"))
			}
		}
		compiled(t, "g++", args...)
	}
	find("inkraster", "blend", nil, "1")
	// The service: each beam is weighed six times more.
	beam := changed(t, dir, "../../demo/engraved/beam/beam.go", "	best := math.Inf(1)\n", "	for h := 0; h < 6; h++ {\n		best = math.Min(best, math.Inf(1)+cost(notes, float64(h), 9))\n	}\n")
	original, err := filepath.Abs("../../demo/engraved/beam/beam.go")
	if err != nil {
		t.Fatal(err)
	}
	overlay, err := json.Marshal(map[string]map[string]string{"Replace": {original: beam}})
	if err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(dir, "overlay.json")
	if err := os.WriteFile(file, overlay, 0o600); err != nil {
		t.Fatal(err)
	}
	compiled(t, "go", "build", "-trimpath", "-buildvcs=false", "-o", filepath.Join(dir, "engraved-before"), "./demo/engraved")
	compiled(t, "go", "build", "-trimpath", "-buildvcs=false", "-overlay", file, "-o", filepath.Join(dir, "engraved-after"), "./demo/engraved")
	find("engraved", "beam.slope", []string{"GOMAXPROCS=1", "GODEBUG=asyncpreemptoff=1,memprofilerate=0", "GOGC=off"}, "--scores", "4")
}
