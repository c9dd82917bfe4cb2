// Package verdict writes what a comparison shows for other programs: Markdown
// for a merge request, and JUnit's XML for a CI job.
//
// It holds nothing between calls.
package verdict

import (
	"encoding/xml"
	"fmt"
	"io"
	"strings"

	"entelon/core/compare"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/reading"
	"entelon/core/scales"
	"entelon/core/statistics"
)

// View is what is written.
type View struct {
	Result   *compare.Result
	Suspects []compare.Suspect
	Outcome  compare.Outcome
	Findings []compare.Finding
	Sides    reading.Sides
	Takes    [2]int
	Unit     string // of the measure
	Scope    string
}

// maxSuspects bounds what is written of suspects.
const maxSuspects = 8

// Markdown writes a view as a comment on a merge request.
func Markdown(w io.Writer, v View) error {
	var b strings.Builder
	sign := map[compare.Outcome]string{compare.Pass: "No regression", compare.Fail: "Regression", compare.Unknown: "Could not tell"}[v.Outcome]
	fmt.Fprintf(&b, "### %s: %s against %s\n\n", sign, code(v.Sides.Candidate), code(v.Sides.Baseline))
	for _, x := range reading.Comparison(v.Result, v.Suspects, v.Sides) {
		if x.Name != "" {
			b.WriteString(code(x.Text))
		} else {
			b.WriteString(escape(x.Text))
		}
	}
	fmt.Fprintf(&b, "\n\n%s %s; %d and %d takes", escape(v.Sides.Measure), v.Result.Scale.Words(), v.Takes[0], v.Takes[1])
	if v.Scope != "" {
		fmt.Fprintf(&b, ", only where %s", code(v.Scope))
	}
	b.WriteString(".\n")
	if len(v.Findings) > 0 {
		b.WriteString("\n| outcome | what | allowed |\n|---|---|---|\n")
		for i := range v.Findings {
			f := &v.Findings[i]
			fmt.Fprintf(&b, "| %s | %s | %s |\n", f.Outcome, escape(f.Text(v.Result, v.Sides.Measure)), statistics.Signed(f.Limit))
		}
	}
	if len(v.Suspects) > 0 {
		b.WriteString("\n| share of the difference | difference | where | why |\n|--:|--:|---|---|\n")
		for i, x := range v.Suspects {
			if i == maxSuspects {
				break
			}
			fmt.Fprintf(&b, "| %.0f %% | %s | %s | %s |\n", 100*x.Share, Amount(v.Result, x.Difference, v.Unit), code(Where(v.Result, x)), escape(x.How(v.short)))
		}
	}
	for _, r := range v.Result.Remarks {
		fmt.Fprintf(&b, "\n> %s %s\n", escape(r.Text), escape(r.Remedy))
	}
	_, err := io.WriteString(w, b.String())
	return err
}

func (v *View) short(f int32) string { return profile.Short(v.Result.Name(f)) }

// Where is a suspect with its caller.
func Where(r *compare.Result, x compare.Suspect) string {
	if len(x.Path) == 0 {
		return "the whole program"
	}
	out := profile.Short(r.Name(x.Function()))
	if c := r.Caller(x); c >= 0 {
		out = profile.Short(r.Name(c)) + " → " + out
	}
	return out
}

// Amount writes a difference with its sign and unit.
func Amount(r *compare.Result, v float64, unit string) string {
	sign := "+"
	if v < 0 {
		sign, v = "−", -v
	}
	if r.Scale == scales.ByShare {
		return fmt.Sprintf("%s%.1f %%", sign, 100*v)
	}
	return sign + measure.Amount(int64(v+0.5), unit)
}

// Interval writes where a difference lies; "" where both ends read the same.
func Interval(r *compare.Result, e *statistics.Estimate, unit string) string {
	low, high := Amount(r, e.Low, unit), Amount(r, e.High, unit)
	if low == high {
		return ""
	}
	return low + " to " + high
}

// Word is a verdict in the words of what is measured: bytes and instructions are not slower.
func Word(v statistics.Verdict, unit string) string {
	switch {
	case unit == string(measure.Nanoseconds):
	case v == statistics.Slower:
		return "costlier"
	case v == statistics.Faster:
		return "cheaper"
	}
	return string(v)
}

// code writes a name so that Markdown leaves it alone.
func code(s string) string {
	fence := "`"
	for strings.Contains(s, fence) {
		fence += "`"
	}
	s = strings.NewReplacer("|", "\\|", "\n", " ").Replace(s)
	if len(fence) > 1 {
		return fence + " " + s + " " + fence
	}
	return fence + s + fence
}

var escaper = strings.NewReplacer("\\", "\\\\", "|", "\\|", "*", "\\*", "_", "\\_", "<", "&lt;", "`", "\\`", "[", "\\[", "\n", " ")

func escape(s string) string { return escaper.Replace(s) }

// The parts of JUnit's XML that CI servers read.
type suite struct {
	XMLName  xml.Name `xml:"testsuite"`
	Name     string   `xml:"name,attr"`
	Tests    int      `xml:"tests,attr"`
	Failures int      `xml:"failures,attr"`
	Skipped  int      `xml:"skipped,attr"`
	Cases    []item   `xml:"testcase"`
}

type item struct {
	Class   string   `xml:"classname,attr"`
	Name    string   `xml:"name,attr"`
	Failure *message `xml:"failure,omitempty"`
	Skipped *message `xml:"skipped,omitempty"`
	Out     string   `xml:"system-out,omitempty"`
}

type message struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

// JUnit writes each finding as a test: a regression as its failure, what could
// not be told as one that was left out.
func JUnit(w io.Writer, v View) error {
	s := suite{Name: fmt.Sprintf("%s against %s", v.Sides.Candidate, v.Sides.Baseline), Tests: len(v.Findings)}
	var why strings.Builder
	for _, x := range reading.Comparison(v.Result, v.Suspects, v.Sides) {
		why.WriteString(x.Text)
	}
	for i := range v.Findings {
		f := &v.Findings[i]
		text := f.Text(v.Result, v.Sides.Measure)
		c := item{Class: "entelon", Name: "the whole"}
		if f.Name+f.Nothing != "" {
			c.Name = f.Name + f.Nothing
		}
		switch f.Outcome {
		case compare.Fail:
			s.Failures++
			c.Failure = &message{text, why.String()}
		case compare.Unknown:
			s.Skipped++
			c.Skipped = &message{Message: text}
		default:
			c.Out = text
		}
		s.Cases = append(s.Cases, c)
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(w)
	e.Indent("", "  ")
	if err := e.Encode(s); err != nil {
		return fmt.Errorf("writing JUnit's XML: %w", err)
	}
	_, err := io.WriteString(w, "\n")
	return err
}
