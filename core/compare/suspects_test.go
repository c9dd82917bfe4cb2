package compare_test

import (
	"math"
	"strings"
	"testing"

	"entelon/core/compare"
	"entelon/core/match"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scales"
	"entelon/core/statistics"
)

// stacks makes a run from lines like "main;draw;glyph 30", the functions of the
// program's own unless their name begins with "lib.", 30 samples each time. Lines
// like "main;draw;glyph calls 7" are calls that were counted.
func stacks(lines ...string) match.Run {
	b := profile.NewBuilder()
	b.Measure("cpu", "ns", measure.Sum)
	columns := map[string]int{}
	for _, line := range lines {
		if path, _, ok := strings.Cut(line, " calls "); ok {
			if name := path[strings.LastIndex(path, ";")+1:]; columns[name] == 0 {
				columns[name] = len(columns) + 1
				b.Column(measure.Column{Name: "function:" + name, Unit: "count", Counted: true})
			}
		}
	}
	th := b.Thread(b.Process(1), 1)
	own := b.Module(profile.Module{Path: b.Intern("/srv/engraved"), Kind: profile.KindOwn})
	lib := b.Module(profile.Module{Path: b.Intern("/lib/libm.so.6"), Kind: profile.KindLibrary})
	script := b.Module(profile.Module{Path: b.Intern("/srv/job.py"), Kind: profile.KindInterpreter})
	vm := b.Module(profile.Module{Path: b.Intern("/usr/bin/interpreter"), Kind: profile.KindRuntime})
	at := int64(0)
	for _, line := range lines {
		path, count, _ := strings.Cut(line, " ")
		column := 0
		if rest, ok := strings.CutPrefix(count, "calls "); ok {
			count, column = rest, columns[path[strings.LastIndex(path, ";")+1:]]
		}
		n := 0
		for _, c := range count {
			n = 10*n + int(c-'0')
		}
		stack := profile.StackID(0)
		for _, name := range strings.Split(path, ";") {
			name, file, _ := strings.Cut(name, "@")
			m, kind := own, profile.KindOwn
			switch {
			case strings.HasPrefix(name, "lib."):
				m, kind = lib, profile.KindLibrary
			case strings.HasPrefix(name, "py."):
				m = script
			case strings.HasPrefix(name, "vm."):
				m, kind = vm, profile.KindRuntime
			}
			f := b.Function(profile.Function{Name: b.Intern(name), Module: m, Kind: kind, File: b.Intern(file), Line: 10})
			stack = b.Push(stack, b.Frame(profile.Frame{Function: f}))
		}
		values := make([]int64, len(columns)+1)
		values[column] = 1
		if column == 0 {
			values[0] = 1_000_000
		}
		for range n {
			at += 1e6
			b.Sample(at, th, stack, values...)
		}
	}
	return runOf(b.Profile())
}

func thrice(r match.Run) []match.Run { return []match.Run{r, r, r} }

func names(r *compare.Result, s compare.Suspect) string {
	var out []string
	for _, f := range s.Path {
		out = append(out, r.Name(f))
	}
	return strings.Join(out, ";")
}

func TestSuspects(t *testing.T) {
	before := []string{"main;space 2000", "main;route;lift;height 600", "main;route;lift;at 300", "main;route;lift 100", "main;draw;outline;lib.sin 400", "main;draw;outline 200", "main;draw 300"}
	change := func(with ...string) []string { // lines that replace those with the same path
		out := append([]string(nil), before...)
	next:
		for _, w := range with {
			path, n, _ := strings.Cut(w, " ")
			for i, line := range out {
				if strings.HasPrefix(line, path+" ") {
					out[i] = path + " " + n
					continue next
				}
			}
			out = append(out, w)
		}
		return out
	}
	for _, x := range []struct {
		what  string
		after []string
		path  string
		why   compare.Why
		share float64
	}{
		{"own code", change("main;draw 1300"), "main;draw", compare.OwnCode, 1},
		{"a leaf", change("main;route;lift;height 2600"), "main;route;lift;height", compare.OwnCode, 1},
		{"more often", change("main;route;lift;height 3600", "main;route;lift;at 1800", "main;route;lift 600"), "main;route;lift", compare.Oftener, 1},
		{"a library, by who calls it", change("main;draw;outline;lib.sin 2400"), "main;draw;outline", compare.Callees, 1},
		{"new", change("main;page;blot 1500"), "main;page", compare.Newly, 1},
		{"new, where its caller is not", change("main;draw;outline;blot 1500"), "main;draw;outline;blot", compare.Newly, 1},
		{"faster", change("main;space 200"), "main;space", compare.OwnCode, 1},
		{"all alike", []string{"main;space 4000", "main;route;lift;height 1200", "main;route;lift;at 600", "main;route;lift 200", "main;draw;outline;lib.sin 800", "main;draw;outline 400", "main;draw 600"}, "main", compare.Oftener, 1},
	} {
		r := compared(t, thrice(stacks(before...)), thrice(stacks(x.after...)), compare.Options{Scale: scales.ByRun})
		s := r.Suspects()
		if len(s) == 0 {
			t.Errorf("%s: there is no suspect", x.what)
			continue
		}
		if got := names(r, s[0]); got != x.path || s[0].Why != x.why || math.Abs(s[0].Share-x.share) > 0.02 || len(s) > 1 {
			t.Errorf("%s: %s (%s) with %.2f, %d suspects; want %s (%s)", x.what, got, s[0].Why, s[0].Share, len(s), x.path, x.why)
		}
	}
}

// What a runtime does to execute an interpreted function is its own code, unless one
// thing that it calls stands out; that is named, as it is where a library is called.
func TestCalleesThatStandOut(t *testing.T) {
	before := []string{"py.main 500", "py.main;py.get 200", "py.main;py.get;vm.eval 300", "py.main;py.get;vm.iterate 200", "py.main;py.get;vm.sorted;vm.compare 200", "py.main;draw;lib.sin 300", "py.main;draw;lib.cos 300", "py.main;draw 200"}
	for _, x := range []struct {
		what, path string
		more       []string
		why        compare.Why
		via        string
	}{
		{"executed", "py.main;py.get", []string{"py.main;py.get 300", "py.main;py.get;vm.eval 700", "py.main;py.get;vm.iterate 600"}, compare.OwnCode, ""},
		{"a callee", "py.main;py.get", []string{"py.main;py.get;vm.sorted;vm.compare 1500"}, compare.Callees, "vm.sorted"},
		{"a library", "py.main;draw", []string{"py.main;draw;lib.sin 1200"}, compare.Callees, "lib.sin"},
		{"a library in two places", "py.main;draw", []string{"py.main;draw;lib.sin 900", "py.main;draw;lib.cos 1300"}, compare.Callees, "lib.cos"},
		{"none stands out", "py.main;draw", []string{"py.main;draw;lib.sin 700", "py.main;draw;lib.cos 700", "py.main;draw;lib.tan 700"}, compare.Callees, ""},
	} {
		r := compared(t, thrice(stacks(before...)), thrice(stacks(append(before, x.more...)...)), compare.Options{Scale: scales.ByRun})
		s := r.Suspects()
		if len(s) == 0 {
			t.Errorf("%s: there is no suspect", x.what)
			continue
		}
		via := ""
		if s[0].Via >= 0 {
			via = r.Name(s[0].Via)
		}
		if got := names(r, s[0]); got != x.path || s[0].Why != x.why || via != x.via {
			t.Errorf("%s: %s (%s, mostly in %q), want %s (%s, %q)", x.what, got, s[0].Why, via, x.path, x.why, x.via)
		}
	}
}

// Two regressions are two suspects, and what became cheaper is one, too; together
// they are the whole difference.
func TestSuspectsSumToTheDifference(t *testing.T) {
	a := stacks("main;space 3000", "main;route 1000", "main;draw;glyph 1000", "main;read 800")
	b := stacks("main;space 3000", "main;route 2500", "main;draw;glyph 2200", "main;read 300")
	r := compared(t, thrice(a), thrice(b), compare.Options{Scale: scales.ByRun})
	want := map[string]float64{"main;route": 1500e6, "main;draw;glyph": 1200e6, "main;read": -500e6}
	sum := 0.0
	for _, s := range r.Suspects() {
		sum += s.Difference
		if w, ok := want[names(r, s)]; !ok || math.Abs(s.Difference-w) > 1 {
			t.Errorf("%s explains %.0f, want %.0f", names(r, s), s.Difference, w)
		}
	}
	if math.Abs(sum-r.Whole.Difference) > 1 {
		t.Errorf("the suspects explain %.0f of %.0f", sum, r.Whole.Difference)
	}
}

// Work that went from one caller to another is moved, and nothing got slower.
func TestMovedWork(t *testing.T) {
	a := stacks("main;draw;glyph 2000", "main;draw 500", "main;title 500", "main;space 2000")
	b := stacks("main;title;glyph 2000", "main;draw 500", "main;title 500", "main;space 2000")
	r := compared(t, thrice(a), thrice(b), compare.Options{Scale: scales.ByRun})
	for _, s := range r.Suspects() {
		if s.Why != compare.Moved || r.Name(s.Function()) != "glyph" {
			t.Errorf("%s is %s", names(r, s), s.Why)
		}
	}
}

func TestCodeInANewFunction(t *testing.T) {
	a := stacks("main;lift;height 600", "main;lift;excess 500", "main;space 3000")
	b := stacks("main;lift;clearance;height 3600", "main;lift;clearance 500", "main;space 3000")
	r := compared(t, thrice(a), thrice(b), compare.Options{Scale: scales.ByRun})
	s := r.Suspects()
	if len(s) != 1 || names(r, s[0]) != "main;lift" || s[0].Why != compare.Rewritten || r.Name(s[0].Via) != "clearance" || math.Abs(s[0].Enters-4100.0/1100) > 0.01 {
		t.Errorf("%+v", s)
	}
}

func TestAlignment(t *testing.T) {
	for _, x := range []struct {
		what         string
		old, new     string
		reason       string
		before, then []string
	}{
		{"template arguments", "ink::flatten<float, Sink<int>>", "ink::flatten<double>", "arguments", []string{"main;%;lib.sin 500"}, []string{"main;%;lib.sin 700"}},
		{"compilers' suffixes", "route.constprop.0", "route.isra.0.part.1", "compiler", []string{"main;% 500"}, []string{"main;% 700"}},
		{"closures", "page.Draw.func2", "page.Draw.func3", "closure", []string{"main;% 500"}, []string{"main;% 700"}},
		{"generic arguments", "beam.Sort[go.shape.int]", "beam.Sort[go.shape.string]", "arguments", []string{"main;% 500"}, []string{"main;% 700"}},
		{"another package", "slur.Route", "curve.Route", "moved", []string{"main;engrave;%;height 500", "main;engrave;%;at 300"}, []string{"main;engrave;%;height 900", "main;engrave;%;at 500"}},
		{"renamed", "slur.holdUp@slur.go", "slur.raise@slur.go", "renamed", []string{"main;engrave;%;height 500", "main;engrave;%;at 300"}, []string{"main;engrave;%;height 900", "main;engrave;%;at 500"}},
		{"another thing", "slur.holdUp@slur.go", "lyric.place@lyric.go", "", []string{"main;engrave;%;height 500"}, []string{"main;engrave;%;vowels 900"}},
		{"a leaf of the same file", "glyph.blur@glyph.go", "glyph.census@glyph.go", "", []string{"main;engrave;% 500"}, []string{"main;engrave;% 500"}},
	} {
		fill := func(lines []string, name string) []string {
			out := []string{"main;space 3000", "main;engrave 100", "main;other;height 900", "main;other;at 500", "main;other;vowels 300"}
			for _, l := range lines {
				out = append(out, strings.ReplaceAll(l, "%", strings.ReplaceAll(name, " ", "")))
			}
			return out
		}
		r := compared(t, thrice(stacks(fill(x.before, x.old)...)), thrice(stacks(fill(x.then, x.new)...)), compare.Options{Scale: scales.ByRun})
		if x.reason == "" {
			if len(r.Matches) != 0 {
				t.Errorf("%s: matched by force: %+v", x.what, r.Matches)
			}
			continue
		}
		if len(r.Matches) != 1 || !strings.Contains(r.Matches[0].Reason, x.reason) {
			t.Errorf("%s: %+v", x.what, r.Matches)
			continue
		}
		m := r.Matches[0]
		row := row(t, r, m.Candidate)
		if row.Match == nil || row.State == compare.New || row.Match.Baseline != m.Baseline {
			t.Errorf("%s: the row is %s, %+v", x.what, row.State, row.Match)
		}
		// What was matched is undone by hand, and what was not is made so.
		apart := compared(t, thrice(stacks(fill(x.before, x.old)...)), thrice(stacks(fill(x.then, x.new)...)), compare.Options{Scale: scales.ByRun, Hand: match.Hand{Apart: [][2]string{{m.Baseline, m.Candidate}}}})
		if len(apart.Matches) != 0 {
			t.Errorf("%s: undone, and still %+v", x.what, apart.Matches)
		}
	}
	a, b := stacks("main;holdUp 500", "main;space 900"), stacks("main;census 500", "main;space 900")
	r := compared(t, thrice(a), thrice(b), compare.Options{Scale: scales.ByRun, Hand: match.Hand{Together: [][2]string{{"holdUp", "census"}}}})
	if len(r.Matches) != 1 || !r.Matches[0].ByHand || row(t, r, "census").State != compare.Same {
		t.Errorf("by hand: %+v", r.Matches)
	}
}

func TestJudge(t *testing.T) {
	a, same, slower := stacks("main;space 3000", "main;route 1000"), stacks("main;space 3000", "main;route 1010"), stacks("main;space 3000", "main;route 2000")
	for _, x := range []struct {
		what  string
		a, b  []match.Run
		rules compare.Rules
		want  compare.Outcome
	}{
		{"no change", thrice(a), thrice(same), compare.Rules{Limits: []compare.Limit{{Rise: 0.05}}}, compare.Pass},
		{"slower", thrice(a), thrice(slower), compare.Rules{Limits: []compare.Limit{{Rise: 0.05}}}, compare.Fail},
		{"slower, as is allowed", thrice(a), thrice(slower), compare.Rules{Limits: []compare.Limit{{Rise: 0.5}}}, compare.Pass},
		{"faster", thrice(slower), thrice(a), compare.Rules{Limits: []compare.Limit{{Rise: 0.05}}}, compare.Pass},
		{"one take a side", []match.Run{a}, []match.Run{same}, compare.Rules{Limits: []compare.Limit{{Rise: 0.02}}}, compare.Unknown},
		{"a function", thrice(a), thrice(slower), compare.Rules{Limits: []compare.Limit{{Rise: 0.5}, {Pattern: "rou*", Rise: 0.1}}}, compare.Fail},
		{"another function", thrice(a), thrice(slower), compare.Rules{Limits: []compare.Limit{{Rise: 0.5}, {Pattern: "space", Rise: 0.1}}}, compare.Pass},
		{"accepted", thrice(a), thrice(slower), compare.Rules{Limits: []compare.Limit{{Pattern: "route", Rise: 0.1}}, Accepted: []compare.Accepted{{Pattern: "route", Note: "wanted"}}}, compare.Pass},
		{"more than was accepted", thrice(a), thrice(slower), compare.Rules{Limits: []compare.Limit{{Pattern: "route", Rise: 0.1}}, Accepted: []compare.Accepted{{Pattern: "route", Rise: 0.3, Note: "wanted"}}}, compare.Fail},
		{"a limit that guards nothing", thrice(a), thrice(same), compare.Rules{Limits: []compare.Limit{{Rise: 0.05}, {Pattern: "ruote", Rise: 0.1}}}, compare.Unknown},
		{"nothing is limited", thrice(a), thrice(slower), compare.Rules{}, compare.Pass},
	} {
		r := compared(t, x.a, x.b, compare.Options{Scale: scales.ByRun})
		got, findings := compare.Judge(r, x.rules)
		if got != x.want || len(x.rules.Limits) > 0 && len(findings) == 0 {
			t.Errorf("%s: %s, want %s: %+v", x.what, got, x.want, findings)
		}
		for i := range findings {
			if text := findings[i].Text(r, "CPU time"); !strings.HasSuffix(text, ".") || strings.Contains(text, "NaN") || strings.Contains(text, "Inf") {
				t.Errorf("%s: %s", x.what, text)
			}
		}
	}
	r := compared(t, thrice(a), thrice(slower), compare.Options{Scale: scales.ByShare})
	if got, _ := compare.Judge(r, compare.Rules{Limits: []compare.Limit{{Rise: 0.05}}}); got != compare.Unknown {
		t.Errorf("by shares the whole is judged %s", got)
	}
}

// TestMirror: both sides' frames stand in their slots, and slots in their parents'.
func TestMirror(t *testing.T) {
	a := stacks("main;space 3000", "main;route;lift 1000", "main;draw;glyph 500", "main;gone;x 300")
	b := stacks("main;space 2000", "main;route;lift 2500", "main;draw;glyph 900", "main;fresh;y 800")
	r := compared(t, thrice(a), thrice(b), compare.Options{Scale: scales.ByRun})
	m := r.Mirror(0)
	right := map[int32]float64{}
	for i := range m.X {
		if m.Total[0][i] > m.Slot[i]+1 || m.Total[1][i] > m.Slot[i]+1 {
			t.Errorf("frame %d has %v and %v in a slot of %v", i, m.Total[0][i], m.Total[1][i], m.Slot[i])
		}
		p := m.Parent[i]
		if p < 0 {
			continue
		}
		if m.X[i] < m.X[p] || m.X[i]+m.Slot[i] > m.X[p]+m.Slot[p]+1 || m.Depth[i] != m.Depth[p]+1 || m.X[i] < right[p] {
			t.Errorf("frame %d at %v to %v is not in its parent's slot, %v to %v", i, m.X[i], m.X[i]+m.Slot[i], m.X[p], m.X[p]+m.Slot[p])
		}
		right[p] = m.X[i] + m.Slot[i]
	}
	if m.Total[0][0] != r.Whole.Baseline || m.Total[1][0] != r.Whole.Candidate || len(m.X) != 11 {
		t.Errorf("%d frames; the root has %v and %v", len(m.X), m.Total[0][0], m.Total[1][0])
	}
}

func TestAShareHasItsSign(t *testing.T) {
	for share, want := range map[float64]string{0.017: "+1.7 %", -0.142: "−14.2 %", 0: "+0.0 %", 1.068: "+106.8 %"} {
		if got := statistics.Signed(share); got != want {
			t.Errorf("%v reads %q, want %q", share, got, want)
		}
	}
}
