package verdict

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"time"

	"entelon/core/compare"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/reading"
	"entelon/core/scales"
	"entelon/core/statistics"
)

//go:embed comparison.html
var page string

var pageTemplate = template.Must(template.New("comparison").Parse(page))

// maxRows bounds the functions in a report.
const maxRows = 300

type line struct {
	Name, Full, A, B, Difference, Interval, Ratio, Verdict, Class, Was string
	Width                                                              float64
	Grew                                                               bool
}

// HTML writes a view as one page that holds all it needs, with no script.
func HTML(w io.Writer, v View, now time.Time) error {
	r := v.Result
	plain := func(x float64) string {
		if r.Scale == scales.ByShare {
			return fmt.Sprintf("%.1f %%", 100*x)
		}
		return measure.Amount(int64(x+0.5), v.Unit)
	}
	var suspects, rows []line
	for _, x := range v.Suspects {
		l := line{Name: Where(r, x), A: plain(x.Baseline), B: plain(x.Candidate), Difference: Amount(r, x.Difference, v.Unit), Interval: Interval(r, &x.Estimate, v.Unit),
			Ratio: fmt.Sprintf("%.0f %%", 100*x.Share), Verdict: x.How(v.short), Grew: x.Difference > 0, Width: min(100, max(x.Share, -x.Share)*100)}
		if x.Function() >= 0 {
			l.Full = r.Name(x.Function())
		}
		suspects = append(suspects, l)
	}
	for i, x := range r.Rows {
		if i == maxRows {
			break
		}
		e := x.Self
		l := line{Name: profile.Short(x.Name), Full: x.Name, A: plain(e.Baseline), B: plain(e.Candidate), Difference: Amount(r, e.Difference, v.Unit), Interval: Interval(r, &e, v.Unit), Verdict: Word(e.Verdict, v.Unit), Grew: e.Difference > 0}
		if e.Ratio > 0 {
			l.Ratio = fmt.Sprintf("×%.2f", e.Ratio)
		}
		if x.State == compare.New || x.State == compare.Gone {
			l.Verdict = string(x.State)
		}
		if x.Match != nil {
			l.Was = profile.Short(x.Match.Baseline) + ": " + x.Match.Reason
		}
		rows = append(rows, l)
	}
	var findings []string
	for i := range v.Findings {
		f := &v.Findings[i]
		findings = append(findings, fmt.Sprintf("%s: %s Allowed: %s.", f.Outcome, f.Text(r, v.Sides.Measure), statistics.Signed(f.Limit)))
	}
	err := pageTemplate.Execute(w, map[string]any{
		"Outcome": string(v.Outcome), "Sides": v.Sides, "Takes": v.Takes, "Scale": r.Scale.Words(), "Scope": v.Scope,
		"Reading": reading.Comparison(r, v.Suspects, v.Sides), "Findings": findings, "Suspects": suspects, "Rows": rows, "More": max(0, len(r.Rows)-maxRows), "Remarks": r.Remarks, "Now": now.UTC().Format("2006-01-02 15:04 UTC"),
	})
	if err != nil {
		return fmt.Errorf("writing the report: %w", err)
	}
	return nil
}
