package verdict

import (
	"bytes"
	"encoding/xml"
	"regexp"
	"strings"
	"testing"
	"time"

	"entelon/core/calltree"
	"entelon/core/compare"
	"entelon/core/invent"
	"entelon/core/match"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/reading"
	"entelon/core/scales"
	"entelon/core/scope"
)

// side makes takes of a shop.
func side(x *invent.Season, s invent.Shop, n int) (out []match.Run) {
	for range n {
		p := x.Take(s)
		tr := calltree.New(p)
		c := tr.Cost(0, scope.Scope{})
		out = append(out, match.Run{Tree: tr, Cost: c, Functions: calltree.Functions(tr, c), DurationNS: 1e9, CPUNS: p.Total(0)})
	}
	return out
}

const evil = "a|b*<script>`&[x](y)_z\nnext"

// view compares a shop with one in which one function, of an evil name, takes four times as long.
func view(t *testing.T, limits ...compare.Limit) View {
	t.Helper()
	before := invent.Shop{Functions: []invent.ShopFunction{{Name: "slur.Route", Mean: 3000}, {Name: "beam.Group", Mean: 2000}, {Name: evil, Mean: 800}}, Common: 0.01, Own: 0.01}
	x := invent.NewSeason(5)
	r, err := compare.Compare(side(x, before, 5), side(x, before.With(evil, 4), 5), compare.Options{Scale: scales.ByRun})
	if err != nil {
		t.Fatal(err)
	}
	v := View{Result: r, Suspects: r.Suspects(), Sides: reading.Sides{Baseline: "3.4.0", Candidate: "3.5.0|`x`", Measure: "CPU time"}, Takes: [2]int{5, 5}, Unit: "ns", Scope: "not idle"}
	v.Outcome, v.Findings = compare.Judge(r, compare.Rules{Limits: limits})
	return v
}

// TestJUnitIsRead: what a CI server reads tells of each limit, and of a regression why.
func TestJUnitIsRead(t *testing.T) {
	v := view(t, compare.Limit{Rise: 0.05}, compare.Limit{Pattern: "slur.*", Rise: 0.5}, compare.Limit{Pattern: "lyric.*", Rise: 0.5})
	if v.Outcome != compare.Fail {
		t.Fatalf("a program that is 40 %% slower is judged %s", v.Outcome)
	}
	var b bytes.Buffer
	if err := JUnit(&b, v); err != nil {
		t.Fatal(err)
	}
	var got suite
	if err := xml.Unmarshal(b.Bytes(), &got); err != nil {
		t.Fatalf("%v in\n%s", err, b.String())
	}
	if got.Tests != len(v.Findings) || len(got.Cases) != got.Tests || got.Failures != 1 || got.Skipped != 1 || !strings.HasPrefix(b.String(), "<?xml") {
		t.Errorf("%d tests, %d of them failed and %d left out, of %d findings", got.Tests, got.Failures, got.Skipped, len(v.Findings))
	}
	by := map[string]item{}
	for _, c := range got.Cases {
		by[c.Name] = c
	}
	if f := by["the whole"].Failure; f == nil || !strings.HasPrefix(f.Message, "The program takes") || !strings.Contains(f.Text, "a|b*<…>") {
		t.Errorf("the whole fails with %+v", f)
	}
	if c := by["slur.Route"]; c.Failure != nil || c.Skipped != nil || c.Out == "" {
		t.Errorf("what did not change is %+v", c)
	}
	if s := by["lyric.*"].Skipped; s == nil || !strings.Contains(s.Message, "guards nothing") {
		t.Errorf("a limit that fits nothing is %+v", s)
	}
}

// TestMarkdownHoldsAnyName: rows keep their columns, and no name becomes markup.
func TestMarkdownHoldsAnyName(t *testing.T) {
	v := view(t, compare.Limit{Rise: 0.05}, compare.Limit{Pattern: "*script*", Rise: 0.5})
	var b bytes.Buffer
	if err := Markdown(&b, v); err != nil {
		t.Fatal(err)
	}
	text := b.String()
	columns := regexp.MustCompile(`(^|[^\\])\|`)
	width, tables := 0, 0
	for _, line := range strings.Split(text, "\n") {
		if !strings.HasPrefix(line, "|") {
			width = 0
			continue
		}
		n := len(columns.FindAllString(line, -1))
		if width == 0 {
			width = n
			tables++
		}
		if n != width {
			t.Errorf("a row has %d columns instead of %d: %s", n-1, width-1, line)
		}
	}
	if tables != 2 || !strings.HasPrefix(text, "### Regression: ``") || !strings.Contains(text, "only where `not idle`") {
		t.Errorf("%d tables in\n%s", tables, text)
	}
	outside := regexp.MustCompile("(?s)(``.*?``|`[^`]*`)").ReplaceAllString(strings.ReplaceAll(text, "\\`", ""), "")
	if strings.Contains(outside, "<") || strings.Contains(text, "next\n") && strings.Contains(text, "\nnext") {
		t.Errorf("a name is markup in\n%s", outside)
	}
}

// TestReportIsOnePage: it names the verdict and the suspects, and asks for nothing
// from elsewhere.
func TestReportIsOnePage(t *testing.T) {
	v := view(t, compare.Limit{Rise: 0.05})
	var b bytes.Buffer
	if err := HTML(&b, v, time.Date(2026, 11, 28, 0, 0, 0, 0, time.UTC)); err != nil {
		t.Fatal(err)
	}
	text := b.String()
	for _, want := range []string{"slower", "a|b*&lt;script&gt;", "own code", "2026-11-28"} {
		if !strings.Contains(text, want) {
			t.Errorf("it does not say %q", want)
		}
	}
	if m := regexp.MustCompile(`(src|href)="[^#"]`).FindString(text); m != "" {
		t.Errorf("it asks for something: %s", m)
	}
}

// TestHowTellsTheCallee: where most of a difference is in one callee, all forms say in
// which, as they do for what is done differently.
func TestHowTellsTheCallee(t *testing.T) {
	made := func(sin int) []match.Run {
		b := profile.NewBuilder()
		b.Measure("cpu", "ns", measure.Sum)
		th := b.Thread(b.Process(1), 1)
		own := b.Module(profile.Module{Path: b.Intern("/srv/engraved"), Kind: profile.KindOwn})
		lib := b.Module(profile.Module{Path: b.Intern("/lib/libm.so.6"), Kind: profile.KindLibrary})
		at := func(parent profile.StackID, name string, m profile.ModuleID, k profile.ModuleKind) profile.StackID {
			return b.Push(parent, b.Frame(profile.Frame{Function: b.Function(profile.Function{Name: b.Intern(name), Module: m, Kind: k})}))
		}
		draw := at(0, "draw", own, profile.KindOwn)
		for _, x := range []struct {
			stack profile.StackID
			n     int
		}{{draw, 900}, {at(draw, "sin", lib, profile.KindLibrary), sin}, {at(draw, "cos", lib, profile.KindLibrary), 500}} {
			for i := range x.n {
				b.Sample(int64(i)*1e6, th, x.stack, 1_000_000)
			}
		}
		p := b.Profile()
		tr := calltree.New(p)
		c := tr.Cost(0, scope.Scope{})
		r := match.Run{Tree: tr, Cost: c, Functions: calltree.Functions(tr, c), DurationNS: 1e9, CPUNS: p.Total(0)}
		return []match.Run{r, r, r}
	}
	r, err := compare.Compare(made(300), made(2300), compare.Options{Scale: scales.ByRun})
	if err != nil {
		t.Fatal(err)
	}
	v := View{Result: r, Suspects: r.Suspects(), Sides: reading.Sides{Baseline: "a", Candidate: "b", Measure: "CPU time"}, Unit: "ns"}
	forms := map[string]func(*bytes.Buffer) error{
		"Markdown": func(b *bytes.Buffer) error { return Markdown(b, v) },
		"HTML":     func(b *bytes.Buffer) error { return HTML(b, v, time.Unix(0, 0)) },
	}
	for name, write := range forms {
		var b bytes.Buffer
		if err := write(&b); err != nil {
			t.Fatal(err)
		}
		if !strings.Contains(b.String(), "callees, mostly in sin") {
			t.Errorf("%s does not say in which callee:\n%.2000s", name, b.String())
		}
	}
	if got := Amount(r, -2.5e9, "ns"); got != "−2.50 s" {
		t.Errorf("a difference is %s", got)
	}
	if got := Where(r, v.Suspects[0]); got != "draw" {
		t.Errorf("it is at %s", got)
	}
}
