package truth

import (
	"bytes"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"entelon/linux/perf"
	"entelon/linux/procfs"
)

// TestShort runs the cases that are marked for it, each for less than a
// second. All of them together must meet the targets; make truth runs the rest.
func TestShort(t *testing.T) {
	entelon := builtEntelon(t)
	var all []*Result
	disturbed := 0
	before, began := procfs.StolenTime(), time.Now()
	for _, c := range Cases() {
		if !c.Short {
			continue
		}
		if _, err := exec.LookPath("rustc"); err != nil && strings.HasSuffix(c.source, ".rs") {
			t.Log("no rustc: " + c.Name)
			continue
		}
		r, err := Run(c, entelon, t.TempDir(), 0.7, shortTries)
		if errors.Is(err, ErrDisturbed) {
			disturbed++
			t.Log(err)
			continue
		}
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, r)
		for _, s := range r.Shares {
			if !s.Hit {
				t.Logf("%s: %s measured %.2f %%, sampled %.2f %%", c.Name, s.Part, 100*s.Measured, 100*s.Sampled)
			}
		}
		for _, s := range r.Witness {
			if !s.Hit {
				t.Logf("%s: %s is %.2f %% by the runtime's own profiler, sampled %.2f %%", c.Name, s.Part, 100*s.Measured, 100*s.Sampled)
			}
		}
		if len(r.Cut) > 0 || r.Wrong != "" {
			t.Logf("%s: %.2f %% complete, %v; %s", c.Name, 100*r.Complete, r.Cut, r.Wrong)
		}
		// What is not there cannot look wrong, so that it is there is asked by itself.
		if r.Inlines && r.Inlined == 0 {
			t.Errorf("%s: no stack has an inlined function", c.Name)
		}
		if r.Known == 0 || len(r.Shares) < 2 {
			t.Errorf("%s: %d stacks and %d shares were compared", c.Name, r.Known, len(r.Shares))
		}
	}
	// One in ten may stay without a judgement, and half of them where the host kept
	// taking the machine's processors away.
	cases, mayStay := len(all)+disturbed, 10
	taken := float64(procfs.StolenTime()-before) / float64(time.Since(began))
	if taken > 0.1 {
		mayStay = 2
	}
	if disturbed > max(1, cases/mayStay) {
		t.Errorf("%d of %d programs could not be judged; the host took %.0f %% of a processor away", disturbed, cases, 100*taken)
	} else if disturbed > 0 {
		t.Logf("not judged: %d of %d programs; the host took %.0f %% of a processor away", disturbed, cases, 100*taken)
	}
	s := Sum(all)
	if err := s.Err(); err != nil {
		t.Error(err)
	}
	t.Logf("%d of %d shares, %.3f %% complete, %.3f %% as expected; %.2f %% of the ticks missing beyond what the host took away", s.Hits, s.Shares, 100*s.Complete, 100*s.Right, 100*s.Missing)
}

// builtEntelon goes to the top of the repository and builds the command.
func builtEntelon(t *testing.T) string {
	t.Helper()
	if err := perf.Allowed(); err != nil {
		t.Skip(err)
	}
	t.Chdir("..")
	if *prebuilt != "" {
		return *prebuilt
	}
	out := filepath.Join(t.TempDir(), "entelon")
	if err := run("go", "build", "-o", out, "./cmd/entelon"); err != nil {
		t.Fatal(err)
	}
	return out
}

func TestPatterns(t *testing.T) {
	stackOf := func(names ...string) stack {
		var s stack
		for _, n := range names {
			name, inlined := strings.CutSuffix(n, "~")
			kernel := strings.HasPrefix(name, "k:")
			s.frames = append(s.frames, frame{strings.TrimPrefix(name, "k:"), inlined, kernel})
		}
		s.count = 1
		return s
	}
	p := patterns("// stack level: ink~ < level < ... < main\n")[0]
	for _, c := range []struct {
		s    stack
		fits bool
	}{
		{stackOf("ink~", "level", "spaces", "main", "start"), true},
		{stackOf("level", "main"), true},
		{stackOf("k:irq", "level", "main"), true},
		{stackOf("ink", "level", "main"), false}, // not inlined
		{stackOf("blot", "level", "main"), false},
		{stackOf("ink~", "level", "spaces"), false},
	} {
		var r Result
		r.match([]stack{c.s}, p)
		if r.Known != 1 || (r.Right == 1) != c.fits {
			t.Errorf("%v: %d of %d", c.s, r.Right, r.Known)
		}
	}
}

func TestBare(t *testing.T) {
	for name, want := range map[string]string{
		"ink::Canvas::fill(double) const":           "ink::Canvas::fill",
		"double ink::mix<double, 9>(double)":        "double ink::mix",
		"(anonymous namespace)::draw(int)":          "(anonymous namespace)::draw",
		"<score::Round as score::Shape>::cover":     "<score::Round as score::Shape>::cover",
		"main.closed.func1":                         "main.closed.func1",
		"std::vector<ink::Span>::push_back(ink&&)":  "std::vector::push_back",
		"score::caught::{{closure}}":                "score::caught::{{closure}}",
		"ink::Raster::fill(int)::{lambda()#1}::x()": "ink::Raster::fill",
	} {
		if got := bare(name); got != want {
			t.Errorf("%s: %s, want %s", name, got, want)
		}
	}
}

func TestSumAllowsWhatChanceDoes(t *testing.T) {
	r := &Result{Samples: 1000, Complete: 1, Known: 10, Right: 10}
	for i := range 300 {
		r.Shares = append(r.Shares, Share{Hit: i >= 9})
	}
	s := Sum([]*Result{r})
	if s.Allowed < 7 || s.Allowed > 11 || s.Err() != nil {
		t.Errorf("%d of 300 may miss, %v", s.Allowed, s.Err())
	}
	for i := range 20 {
		r.Shares[i].Hit = false
	}
	r.Complete, r.Right = 0.99, 9
	if err := Sum([]*Result{r}).Err(); err == nil || strings.Count(err.Error(), "\n") != 2 {
		t.Errorf("three missed targets give %v", err)
	}
}

// TestParts: what several processes print is added up, and a program that
// printed nothing is no result.
func TestParts(t *testing.T) {
	spent, err := parts(bytes.NewBufferString("part a 5\nhello\npart b 7\npart a 6\n"), "part")
	if err != nil || spent["a"] != 11 || spent["b"] != 7 {
		t.Errorf("%v %v", spent, err)
	}
	if _, err := parts(bytes.NewBufferString("hello\n"), "part"); err == nil {
		t.Error("a program that measured nothing is taken for one that did")
	}
}

// TestSourcesSayWhatTheyMustShow: every program names stacks.
func TestSourcesSayWhatTheyMustShow(t *testing.T) {
	t.Chdir("..")
	seen := map[string]bool{}
	for _, c := range Cases() {
		b, err := os.ReadFile(c.source)
		if err != nil {
			t.Fatal(err)
		}
		if len(patterns(string(b))) == 0 {
			t.Errorf("%s says nothing of its stacks", c.source)
		}
		if seen[c.Name] {
			t.Errorf("two cases are named %s", c.Name)
		}
		seen[c.Name] = true
	}
}
