// Package report writes a take as one page of HTML that holds all that it
// needs: it opens from a file, with no network, and its flame graph can be dived
// into and searched.
//
// It holds nothing between calls.
package report

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"time"

	"entelon/codec"
	"entelon/codec/picture"
	"entelon/core/calltree"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/reading"
)

//go:embed report.html
var page string

var pageTemplate = template.Must(template.New("report").Parse(page))

// Encoder is this format among others.
var Encoder = codec.Encoder{
	Name: "report", Ending: ".html", Type: "text/html; charset=utf-8", Means: "one page that holds all it needs",
	Params: []codec.Param{{Name: "focus", Type: "string", Means: "full name of the function with a mark"}},
	Encode: Write,
}

// Bounds of what a report holds, so that it can be sent by mail.
const (
	thinnest = 4000 // the part of the whole below which frames stand together
	maxRows  = 300
)

type row struct {
	Name, Full, Self, Total, SelfShare, TotalShare, Module, File string
	Fill, Edge                                                   template.CSS
}

type fact struct{ Name, Value string }

// Write writes the page.
func Write(w io.Writer, v codec.View) error {
	p, total := v.Tree.Profile, v.Cost.Total(0)
	words := p.Words(v.Cost.Measure)
	share := func(n int64) string { return fmt.Sprintf("%.1f %%", 100*float64(n)/float64(max(1, total))) }
	all := v.Rows()
	var rows []row
	for i, r := range all {
		if i == maxRows {
			break
		}
		f := p.Functions[r.Function]
		ink := picture.InkOf(f.Kind.String(), p.Area(r.Function), true)
		file := p.Strings[f.File]
		if file != "" {
			file = fmt.Sprintf("%s:%d", file, f.Line)
		}
		name := p.FunctionName(r.Function)
		rows = append(rows, row{Name: profile.Short(name), Full: name, Self: measure.Amount(r.Self, words.Unit), Total: measure.Amount(r.Total, words.Unit), SelfShare: share(r.Self), TotalShare: share(r.Total), Module: p.ModulePath(r.Function), File: file, Fill: template.CSS(ink.Fill), Edge: template.CSS(ink.Edge)})
	}
	read := ""
	for _, part := range reading.New(v.Tree).Take(v.Cost, all) {
		read += part.Text
	}
	var notes []codec.Note
	if v.Notes != nil {
		var err error
		if notes, err = v.Notes(); err != nil {
			return err
		}
	}
	flame, err := flameOf(v)
	if err != nil {
		return err
	}
	s, f, m := v.Take.Settings, v.Take.Facts, v.Take.Machine
	facts := []fact{
		{"Command", fmt.Sprintf("%q", s.Command)}, {"Directory", s.Dir}, {"Started", m.StartedAt.UTC().Format(time.RFC1123)},
		{"Lasted", fmt.Sprintf("%.2f s, ended by %s", float64(f.DurationNS)/1e9, f.EndedBy)}, {"CPU time", fmt.Sprintf("%.2f s by the kernel's count", float64(f.CPUNS)/1e9)},
		{"Samples", fmt.Sprintf("%d at %d a second (%s), %d lost", f.Samples, s.RateHz, v.Take.Trigger(), f.Lost)}, {"Whole stacks", fmt.Sprintf("%.2f %%", 100*f.CompleteShare())},
		{"Build ID", f.BuildID}, {"Machine", fmt.Sprintf("%s, %d processors, kernel %s", m.Processor, m.Processors, m.Kernel)}, {"Collected by", "Entelon " + m.Entelon},
	}
	if s.Keep != "" {
		facts = append(facts, fact{"Kept only", s.Keep})
	}
	over := lanesOf(v)
	spanNames, moreSpans := spansOf(v)
	sentence := fmt.Sprintf("%s of %s build %s", words.Label, s.Program, s.Build)
	err = pageTemplate.Execute(w, map[string]any{
		"Title": s.Program + " " + s.Build, "Sentence": sentence, "Scope": v.Scope.String(), "Shape": shapeText(v.Shape),
		"Hundred": measure.Amount(total, words.Unit) + profile.Partial(v.Take.Missing(v.Cost.Measure)), "Samples": v.Cost.TotalSamples(0), "Reading": read, "Warnings": f.Warnings,
		"Rows": rows, "Left": max(0, len(all)-maxRows), "Facts": facts, "Notes": notes, "Note": s.Note, "Flame": template.JS(flame), "Over": over, "Spans": spanNames, "MoreSpans": moreSpans, "Events": eventsOf(v), "Made": v.Now.UTC().Format("2006-01-02 15:04 MST"),
	})
	if err != nil {
		return fmt.Errorf("writing the report: %w", err)
	}
	return nil
}

func shapeText(s calltree.Shape) string {
	text := ""
	for _, part := range []struct {
		is   bool
		text string
	}{
		{s.Fold == calltree.FoldRuntime, "the runtime folded"}, {s.Fold == calltree.FoldForeign, "foreign code folded"}, {s.Merge, "recursion merged"},
		{s.Group != "", "by " + s.Group}, {s.Through != "", "from " + profile.Short(s.Through) + " on"},
	} {
		if part.is {
			if text != "" {
				text += ", "
			}
			text += part.text
		}
	}
	return text
}

// flameOf is the flame graph in columns: depth, place and width of each frame,
// and which function it is of; negative numbers of functions are bands of so
// many thin frames.
func flameOf(v codec.View) ([]byte, error) {
	p, t := v.Tree.Profile, v.Tree
	l := t.Layout(v.Cost, calltree.LayoutOptions{MinWidth: max(1, v.Cost.Total(0)/thinnest)})
	out := struct {
		Unit     string     `json:"unit"`
		Focus    string     `json:"focus"`
		Names    [][]string `json:"names"` // short, full, fill, edge, and "h" hatched, "d" dotted
		Depth    []int32    `json:"depth"`
		X        []int64    `json:"x"`
		W        []int64    `json:"w"`
		Self     []int64    `json:"self"`
		Function []int32    `json:"f"`
	}{Unit: p.Words(v.Cost.Measure).Unit, Focus: v.Focus, Names: [][]string{{"all", "everything in scope", "oklch(0.9 0.003 95)", "oklch(0.74 0.004 95)", ""}}, Depth: l.Depth, X: l.X, W: l.W, Self: l.Self}
	at := map[profile.FunctionID]int32{}
	for i, n := range l.Node {
		if l.Hidden[i] > 0 {
			out.Function = append(out.Function, -l.Hidden[i])
			continue
		}
		if n == 0 {
			out.Function = append(out.Function, 0)
			continue
		}
		f := t.Function[n]
		k, ok := at[f]
		if !ok {
			k = int32(len(out.Names))
			at[f] = k
			name := p.FunctionName(f)
			ink := picture.InkOf(p.Functions[f].Kind.String(), p.Area(f), p.Modules[p.Functions[f].Module].Kind.Runs() == "native")
			marks := ""
			if ink.Hatched {
				marks += "h"
			}
			if ink.Dotted {
				marks += "d"
			}
			out.Names = append(out.Names, []string{profile.Short(name), name, ink.Fill, ink.Edge, marks})
		}
		out.Function = append(out.Function, k)
	}
	// Marshal escapes what could end the script that it stands in.
	return json.Marshal(out)
}
