package truth

import (
	"fmt"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"entelon/codec/take"
	"entelon/core/calltree"
	"entelon/core/compare"
	"entelon/core/match"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scales"
	"entelon/core/scope"
	"entelon/core/statistics"
	"entelon/judge"
)

// served is a take of the engraving service under a load.
type served struct {
	workers int
	take    *profile.Take
}

func (s *served) run() match.Run {
	tr := calltree.New(s.take.Profile)
	c := tr.Cost(0, scope.Scope{})
	return match.Run{Tree: tr, Cost: c, Functions: calltree.Functions(tr, c), DurationNS: s.take.Facts.DurationNS, CPUNS: s.take.Facts.CPUNS, StartedAt: s.take.Machine.StartedAt}
}

// sampleService attaches to the engraving service of a build under a load.
func sampleService(t *judge.Try, entelon, build string, workers int, during time.Duration) served {
	t.Helper()
	service := exec.Command("bin/engraved-"+build, "--drive", "--workers", strconv.Itoa(workers))
	if err := service.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = service.Process.Kill(); _ = service.Wait() }() // it serves until it is killed
	time.Sleep(500 * time.Millisecond)
	file := filepath.Join(t.TempDir(), "x.take")
	if out, err := exec.Command(entelon, "take", "--pid", strconv.Itoa(service.Process.Pid), "--for", during.String(), "--out", file).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	got, err := take.ReadFile(file, take.Options{})
	if err != nil {
		t.Fatal(err)
	}
	return served{workers, got}
}

// TestServiceUnderLoads: attached to for some seconds at three loads, two builds of a
// service are told apart with the functions that changed, and a build is not called
// different from itself, at all nine pairs of loads.
func TestServiceUnderLoads(t *testing.T) {
	during := 4 * time.Second
	if *comparing != "" {
		during = 10 * time.Second
	}
	entelon := builtEntelon(t)
	if out, err := exec.Command("make", "bin/engraved-3.4.0", "bin/engraved-3.5.0").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	judge.Fairly(t, func(t *judge.Try) {
		var takes [3][]served // of 3.4.0, of 3.4.0 once more, of 3.5.0
		for _, workers := range []int{1, 2, 6} {
			for i, build := range []string{"3.4.0", "3.4.0", "3.5.0"} {
				takes[i] = append(takes[i], sampleService(t, entelon, build, workers, during))
			}
		}
		for i := range takes[0] {
			for j := range takes[0] {
				a := &takes[0][i]
				for side, b := range []*served{&takes[1][j], &takes[2][j]} {
					name := fmt.Sprintf("%d and %d workers", a.workers, b.workers)
					if s := scales.Fitting(measure.Column{}, a.take, b.take); s != scales.ByYardstick {
						t.Fatalf("%s: compared by %s", name, s)
					}
					r, err := compare.Compare([]match.Run{a.run()}, []match.Run{b.run()}, compare.Options{Scale: scales.ByYardstick})
					if err != nil {
						t.Errorf("%s: %v", name, err)
						continue
					}
					outcome, _ := compare.Judge(r, compare.Rules{Limits: []compare.Limit{{Rise: statistics.DefaultWorth}}})
					t.Logf("%s, %d: %s, %.2f (%.2f to %.2f), %d functions with %.0f %%", name, side, r.Whole.Verdict, r.Whole.Ratio, r.Whole.RatioLow, r.Whole.RatioHigh, len(r.Yardstick.Functions), 100*r.Yardstick.Share[0])
					if side == 0 {
						if v := r.Whole.Verdict; v == statistics.Slower || v == statistics.Faster || outcome == compare.Fail {
							t.Errorf("%s: 3.4.0 is called %s than itself, %+v", name, v, r.Whole)
						}
						continue
					}
					var first []string
					for _, s := range r.Suspects() {
						if f := s.Function(); f >= 0 && len(first) < 3 { // not what is spread over the whole program
							first = append(first, r.Name(f))
						}
					}
					said := strings.Join(first, ", ")
					if r.Whole.Verdict != statistics.Slower || outcome != compare.Fail || !strings.Contains(said, "slur.") || !strings.Contains(said, "glyph.") {
						t.Errorf("%s: 3.5.0 is called %s, for %s", name, r.Whole.Verdict, said)
					}
				}
			}
		}
	})
}
