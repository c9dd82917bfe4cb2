package main

import (
	"math"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"entelon/demo/engraved/beam"
	"entelon/demo/engraved/score"
	"entelon/demo/engraved/slur"
	"entelon/demo/engraved/spacing"
)

func compose(t *testing.T, seed int64) *score.Score {
	t.Helper()
	s, err := score.Read(strings.NewReader(score.Compose(seed)))
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// TestTheWorkIsReal: the program under measurement does what it says.
func TestTheWorkIsReal(t *testing.T) {
	s := compose(t, 3)
	if len(s.Parts) != 4 || len(s.Parts[0].Measures) != 48 {
		t.Fatalf("%d parts", len(s.Parts))
	}
	for _, part := range s.Parts {
		lines := spacing.Justify(part, spacing.PageWidth)
		measures := 0
		for i, l := range lines {
			measures += len(l.Measures)
			if i < len(lines)-1 && math.Abs(l.Width-spacing.PageWidth) > 0.01 {
				t.Errorf("line %d is %.3f wide, want %v", i, l.Width, spacing.PageWidth)
			}
			x := math.Inf(-1)
			for _, m := range l.Measures {
				for _, n := range m.Notes {
					if n.X <= x {
						t.Fatal("notes stand in the wrong order")
					}
					x = n.X
				}
			}
			for _, b := range beam.Group(l) {
				if b.Last <= b.First {
					t.Errorf("a beam over one note: %+v", b)
				}
			}
			sky := slur.NewSkyline(l)
			for _, sl := range slur.Route(l) {
				if sl.Lift < 0.5 || sl.X1 <= sl.X0 {
					t.Errorf("%+v", sl)
				}
				if h := sky.Height(sl.X0); math.IsInf(h, -1) {
					t.Error("a slur begins where no note is")
				}
			}
		}
		if measures != 48 {
			t.Errorf("%d of 48 measures are on the lines", measures)
		}
	}
	if page := Engrave(t.Context(), s); !strings.Contains(page, "<text") || !strings.Contains(page, "Q") || page != Engrave(t.Context(), compose(t, 3)) {
		t.Error("the page has no words or no slurs, or differs from time to time")
	}
}

func TestBadScores(t *testing.T) {
	for _, text := range []string{"measure 1/4/-1/la", "part A\nmeasure 1/4/-1", "part A\nmeasure x/4/-1/la", "part A\nmeasure 1/0/-1/la", "part A\nmeasure 1/4/z/la"} {
		if _, err := score.Read(strings.NewReader(text)); err == nil {
			t.Errorf("%q was read", text)
		}
	}
}

// TestBuildsOfOneSource: each is what it says, and they draw the same but for the
// features that 3.5.0 and 3.6.0 brought. What regressions cost is in the takes.
func TestBuildsOfOneSource(t *testing.T) {
	dir := t.TempDir()
	bytes := map[string]int{}
	for build, tags := range map[string]string{"3.4.0": "", "3.5.0": "v350", "3.5.1": "v350,v351", "3.6.0": "v350,v351,v360"} {
		bin := filepath.Join(dir, build)
		if out, err := exec.Command("go", "build", "-tags", tags, "-o", bin, ".").CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		out, err := exec.Command(bin, "--scores", "6", "--workers", "1").Output()
		if err != nil {
			t.Fatal(err)
		}
		m := regexp.MustCompile(`engraved (\S+) at[^\n]*\n6 scores, (\d+) bytes`).FindStringSubmatch(string(out))
		if m == nil || m[1] != build {
			t.Fatalf("build %s says %s", build, out)
		}
		if bytes[build], err = strconv.Atoi(m[2]); err != nil {
			t.Fatal(err)
		}
	}
	if more := float64(bytes["3.5.0"])/float64(bytes["3.4.0"]) - 1; more < 0.005 || more > 0.1 {
		t.Errorf("3.5.0 draws %d bytes, 3.4.0 %d", bytes["3.5.0"], bytes["3.4.0"])
	}
	if bytes["3.5.1"] != bytes["3.5.0"] {
		t.Errorf("3.5.1 draws %d bytes, 3.5.0 %d", bytes["3.5.1"], bytes["3.5.0"])
	}
	if more := float64(bytes["3.6.0"])/float64(bytes["3.5.1"]) - 1; more < 0.05 || more > 0.5 {
		t.Errorf("3.6.0 draws %d bytes, 3.5.1 %d", bytes["3.6.0"], bytes["3.5.1"])
	}
}
