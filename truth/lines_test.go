package truth

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"entelon/core/profile"
)

// TestLines: samples stand on the lines that the program spends its time on, not on
// one beside them.
func TestLines(t *testing.T) {
	entelon := builtEntelon(t)
	const sources = "truth/programs/lines/"
	out := filepath.Join(t.TempDir(), "lines")
	if err := run("cc", "-O1", "-g", "-o", out, sources+"lines.c"); err != nil {
		t.Fatal(err)
	}
	script, err := filepath.Abs(sources + "lines.py")
	if err != nil {
		t.Fatal(err)
	}
	for source, command := range map[string][]string{"lines.c": {out}, "lines.py": {"python3", script}} {
		text, err := os.ReadFile(sources + source)
		if err != nil {
			t.Fatal(err)
		}
		hot := map[uint32]bool{}
		for i, line := range strings.Split(string(text), "\n") {
			if strings.HasSuffix(line, " hot") {
				hot[uint32(i+1)] = true
			}
		}
		if len(hot) != 2 {
			t.Fatalf("%s has %d hot lines", source, len(hot))
		}
		x, _ := takeOf(t, entelon, append([]string{"--"}, command...)...)
		p := x.Profile
		var all, on int64
		where := map[uint32]int64{}
		for i, s := range p.Samples.Stack {
			line := uint32(0)
			p.Walk(s, func(f profile.FrameID) { // the outermost is the last
				if name := bare(p.FunctionName(p.Frames[f].Function)); name == "press" || strings.HasSuffix(name, ".press") {
					line = p.Frames[f].Line
				}
			})
			if line == 0 {
				continue
			}
			v := p.Samples.Values[0][i]
			all += v
			where[line] += v
			if hot[line] {
				on += v
			}
		}
		if x.Facts.Samples < 100 || float64(all) < 0.5*float64(p.Total(0)) {
			t.Errorf("%s: %d samples, %d of %d below the function", source, x.Facts.Samples, all, p.Total(0))
		}
		if share := float64(on) / float64(max(1, all)); share < 0.98 {
			t.Errorf("%s: %.1f %% of the time is on the hot lines: %v", source, 100*share, where)
		}
	}
}
