package report_test

import (
	"bytes"
	"encoding/csv"
	"encoding/xml"
	"errors"
	"io"
	"strconv"
	"strings"
	"testing"
	"time"

	"entelon/codec"
	"entelon/codec/picture"
	"entelon/codec/report"
	"entelon/codec/table"
	"entelon/core/calltree"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scope"
)

// hostile is a take whose names try to be more than text.
func hostile() *profile.Take {
	b := profile.NewBuilder()
	b.Measure("cpu", "ns", measure.Sum)
	m := b.Module(profile.Module{Path: b.Intern(`/srv/<b>&"x"`), Kind: profile.KindOwn})
	frame := func(name string) profile.FrameID {
		return b.Frame(profile.Frame{Function: b.Function(profile.Function{Name: b.Intern(name), Module: m, File: b.Intern("a,b.c"), Line: 7, Kind: profile.KindOwn}), Line: 8})
	}
	th := b.Thread(b.Process(1), 1)
	for i, name := range []string{`</script><script>window.ran=1</script>`, `<img src=x onerror=alert(1)>`, "=cmd|' /C calc'!A0", "a\x00b\x1b[31m\"quoted\"\n", "operator<<", "ink::Page::fill<int, 3>(Span const&)"} {
		b.Sample(int64(i), th, b.Push(b.Push(0, frame("main.main")), frame(name)), int64(1e6*(i+1)))
	}
	return &profile.Take{
		Settings: profile.Settings{Program: `<i>p</i>`, Build: `"1"`, Command: []string{"./x", "<script>"}, Note: "<u>n</u>", RateHz: 99},
		Facts:    profile.Facts{Samples: 6, Warnings: []profile.Warning{{Code: "x", Text: "<s>w</s>", Remedy: "r"}}, EndedBy: "exit"},
		Profile:  b.Profile(), Whole: true,
	}
}

func TestNamesStayText(t *testing.T) {
	take := hostile()
	tr := calltree.New(take.Profile)
	c := tr.Cost(0, scope.Scope{})
	odd, err := scope.Parse(`function is "<b>"`)
	if err != nil {
		t.Fatal(err)
	}
	var page bytes.Buffer
	if err := report.Write(&page, codec.View{Take: take, Tree: tr, Cost: c, Rows: func() []calltree.FunctionCost { return calltree.Functions(tr, c) }, Scope: odd, Now: time.Unix(0, 0)}); err != nil {
		t.Fatal(err)
	}
	html := page.String()
	for _, bad := range []string{"<script>window", "<img", "<i>p", "<u>n", "<s>w", "<b>", "ZgotmplZ", "http:", "https:", "src="} {
		if strings.Contains(strings.ReplaceAll(html, "&lt;", "‹"), bad) && !(bad == "src=" && !strings.Contains(html, "<img")) {
			t.Errorf("the report has %q", bad)
		}
	}
	if n := strings.Count(html, "<script>"); n != 1 {
		t.Errorf("the report has %d scripts", n)
	}
	if !strings.Contains(html, "default-src 'none'") {
		t.Error("the report does not forbid itself the network")
	}

	var svg bytes.Buffer
	l := tr.Layout(c, calltree.LayoutOptions{MinWidth: 1})
	if err := picture.Write(&svg, tr, c, l, "ns", picture.Options{Width: 900, Title: `<t>&"`, Hundred: "21 ms", Focus: "operator<<"}); err != nil {
		t.Fatal(err)
	}
	titles := 0
	for d := xml.NewDecoder(&svg); ; {
		tok, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			t.Fatalf("the picture is not well formed: %v", err)
		}
		if s, ok := tok.(xml.StartElement); ok {
			switch s.Name.Local {
			case "title":
				titles++
			case "script", "img", "image":
				t.Errorf("the picture has a %s", s.Name.Local)
			}
		}
	}
	if titles != len(l.Node) {
		t.Errorf("%d frames have a title, of %d", titles, len(l.Node))
	}

	var csvFile bytes.Buffer
	if err := table.Write(&csvFile, take.Profile, c, calltree.Functions(tr, c)); err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(&csvFile).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	var sum int64
	for _, r := range rows[1:] {
		v, err := strconv.ParseInt(r[1], 10, 64)
		if err != nil {
			t.Fatal(err)
		}
		sum += v
		if strings.ContainsAny(r[0][:1], "=+-@") {
			t.Errorf("%q would be a formula", r[0])
		}
	}
	if sum != c.Total(0) {
		t.Errorf("the table's self costs sum to %d of %d", sum, c.Total(0))
	}
}

// TestReportTellsWhatHappenedWhen: lanes, spans and events of a take are in its report, of the scope that it is of,
// and what they are about stays text, too.
func TestReportTellsWhatHappenedWhen(t *testing.T) {
	b := profile.NewBuilder()
	for _, name := range []string{"cpu", "waiting", "disk"} {
		m, err := measure.Parse(name)
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range m.Columns() {
			b.Column(c)
		}
	}
	press, clerk := b.Thread(b.Process(1), 10), b.Thread(b.Process(1), 11)
	b.NameThread(press, "press")
	b.NameThread(clerk, "<b>clerk</b>")
	lock := b.Push(0, b.Mark(profile.WaitLock, profile.WaitLock.Key()))
	for _, th := range []profile.ThreadID{press, clerk} {
		b.Sample(1, th, lock, 1000, 0, 0, 0)
		b.Interval(profile.Interval{Duration: 2e9, Thread: th, Kind: profile.IntervalAlive})
		b.Interval(profile.Interval{Start: 1e8, Duration: 25e7, Thread: th, Kind: profile.IntervalWait, Stack: lock})
	}
	b.Interval(profile.Interval{Start: 1e8, Duration: 7e7, Thread: press, Kind: profile.IntervalSpan, Stack: b.Push(0, b.Mark(profile.Span, profile.SpanKey("set & plate")))})
	kind, _ := profile.EventsOf(2)
	b.Interval(profile.Interval{Start: 2e8, Duration: 33e5, Thread: press, Kind: kind, Stack: b.Push(0, b.Mark(profile.DiskWrite, profile.DiskWrite.Key()))})
	b.AttributeOf(profile.AttributeMoved, profile.AttributeBytes, 3<<20)
	b.AttributeOf(profile.AttributeDevice, profile.AttributeText, int64(b.Intern(`<img src=x>`)))
	take := &profile.Take{
		Settings: profile.Settings{Program: "p", Measures: []string{"cpu", "waiting", "disk"}}, Profile: b.Profile(), Whole: true,
		Facts: profile.Facts{DurationNS: 2e9, Counted: []profile.Counting{{Measure: "waiting", Events: 2, Singly: 2, Intervals: 2}, {Measure: "disk", Events: 1, Singly: 1, Intervals: 1}}},
	}
	tr := calltree.New(take.Profile)
	written := func(sc scope.Scope) string {
		c := tr.Cost(0, sc)
		var page bytes.Buffer
		if err := report.Write(&page, codec.View{Take: take, Tree: tr, Cost: c, Rows: func() []calltree.FunctionCost { return calltree.Functions(tr, c) }, Scope: sc, Now: time.Unix(0, 0)}); err != nil {
			t.Fatal(err)
		}
		return page.String()
	}
	html := written(scope.Scope{})
	for _, want := range []string{"press 10", "waits for a lock", "250 ms", "set &amp; plate", "70.0 ms", "requests to disks", "3.00 MiB", "duration 3.30 ms", "device &lt;img", `class="needed" x="15"`, "&lt;b&gt;clerk"} {
		if !strings.Contains(html, want) {
			t.Errorf("%q is not in the report", want)
		}
	}
	if strings.Contains(html, "<img") || strings.Contains(html, "ZgotmplZ") {
		t.Error("what somebody else has named is more than text")
	}
	only, err := scope.Parse("thread is press")
	if err != nil {
		t.Fatal(err)
	}
	if html = written(only); strings.Contains(html, "clerk") || !strings.Contains(html, "press 10") {
		t.Error("a scope is not that of lanes and events")
	}
}
