// Package live shows what is hot now: a table for each window of a collection, on a
// terminal with keys that narrow it, or printed one after the other.
//
// A View belongs to the goroutine that hands it windows; on a terminal a second one reads
// keys, and a lock guards what both use.
package live

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"sync"

	"entelon/cmd/entelon/terminal"
	"entelon/core/calltree"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scope"
	"entelon/core/workload"
)

// RowKinds are what the rows can be.
var RowKinds = []string{"function", "thread", "process", "module"}

// Window is a stretch of time.
type Window struct {
	Begin, End int64 // nanoseconds since the beginning
	Profile    *profile.Profile
	Facts      profile.Facts
	Settings   profile.Settings
}

// View is what is shown of each window.
type View struct {
	Rows string // of RowKinds
	Top  int
	JSON bool

	mu      sync.Mutex
	scope   scope.Scope
	steps   []scope.Scope // before each narrowing
	last    *Window
	table   table
	stopped bool
}

// Check refuses what cannot be shown, and takes the scope.
func (v *View) Check(text string) (err error) {
	if !slices.Contains(RowKinds, v.Rows) {
		return fmt.Errorf("--rows %s: choose from %s", v.Rows, strings.Join(RowKinds, ", "))
	}
	if v.scope, err = scope.Parse(text); err != nil {
		return fmt.Errorf("--scope: %w", err)
	}
	return nil
}

// row is a line of the table.
type row struct {
	Name  string  `json:"name"`
	Self  int64   `json:"self"`
	Total int64   `json:"total,omitempty"` // of functions
	Share float64 `json:"share"`           // of all in scope, its own
	only  string  // the condition that narrows to it
}

// table is what a window comes to.
type table struct {
	Begin   int64  `json:"begin_ns"`
	End     int64  `json:"end_ns"`
	Scope   string `json:"scope"`
	Measure string `json:"measure"`
	Unit    string `json:"unit"`
	Total   int64  `json:"total"`
	Samples int64  `json:"samples"`
	Lost    int64  `json:"lost,omitempty"`
	Kind    string `json:"kind"` // what the rows are
	Rows    []row  `json:"rows"`
}

// of makes the table of a window.
func (v *View) of(w *Window) table {
	p := w.Profile
	out := table{Begin: w.Begin, End: w.End, Scope: v.scope.String(), Kind: v.Rows, Rows: []row{}, Lost: w.Facts.Lost}
	if len(p.Measures) == 0 {
		return out
	}
	words := p.Words(0)
	sc := v.scope.Of(scope.About{Program: w.Settings.Program, Build: w.Settings.Build, Workload: workload.Of(&w.Settings, &w.Facts).Words})
	tr := calltree.New(p)
	c := tr.Cost(0, sc)
	out.Measure, out.Unit, out.Total, out.Samples = words.Name, words.Unit, c.Total(0), c.TotalSamples(0)
	sum := map[string]*row{}
	add := func(name, only string, self, total int64) {
		r := sum[name]
		if r == nil {
			r = &row{Name: name, only: only}
			sum[name] = r
		}
		r.Self += self
		r.Total += total
	}
	switch v.Rows {
	case "thread", "process":
		for _, x := range tr.Threads(0, sc) {
			th := p.Threads[x.Thread]
			pr := p.Processes[th.Process]
			if v.Rows == "thread" {
				add(fmt.Sprintf("%s %d", p.Strings[th.Name], th.TID), fmt.Sprintf("thread is %d", th.TID), x.Value, 0)
			} else {
				add(fmt.Sprintf("%s %d", p.Strings[pr.Name], pr.PID), fmt.Sprintf("process is %d", pr.PID), x.Value, 0)
			}
		}
	default:
		for _, f := range calltree.Functions(tr, c) {
			if v.Rows == "module" {
				if f.Self > 0 {
					path := cmp.Or(p.ModulePath(f.Function), "unknown")
					add(path, "module is "+quoted(path), f.Self, 0)
				}
				continue
			}
			name := p.FunctionName(f.Function)
			add(profile.Short(name), "function is "+quoted(name), f.Self, f.Total)
		}
	}
	for _, r := range sum {
		r.Share = terminal.Share(r.Self, out.Total)
		out.Rows = append(out.Rows, *r)
	}
	slices.SortFunc(out.Rows, func(a, b row) int {
		return cmp.Or(cmp.Compare(b.Self, a.Self), cmp.Compare(b.Total, a.Total), cmp.Compare(a.Name, b.Name))
	})
	if len(out.Rows) > v.Top {
		out.Rows = out.Rows[:v.Top]
	}
	return out
}

// quoted writes a name as an expression has it.
func quoted(name string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(name) + `"`
}

// lines are a table as text, with the number of each row that can be narrowed to.
func (t *table) lines(numbered bool) (out []string) {
	long := float64(t.End-t.Begin) / 1e9
	head := fmt.Sprintf("%.1f to %.1f s · %s of %s · %d samples", float64(t.Begin)/1e9, float64(t.End)/1e9, measure.Amount(t.Total, t.Unit), t.Measure, t.Samples)
	if t.Unit == measure.Nanoseconds && long > 0 && t.Measure == "cpu" {
		head += fmt.Sprintf(" · %.2f processors", float64(t.Total)/1e9/long)
	}
	if t.Lost > 0 {
		head += fmt.Sprintf(" · %d lost", t.Lost)
	}
	out = append(out, head)
	if t.Scope != "" {
		out = append(out, "where "+t.Scope)
	}
	what := fmt.Sprintf("%7s %10s  %s", "self %", "self", t.Kind)
	if t.Kind == "function" {
		what = fmt.Sprintf("%7s %10s %10s  %s", "self %", "self", "total", t.Kind)
	}
	if numbered {
		what = "   " + what
	}
	out = append(out, what)
	for i, r := range t.Rows {
		line := fmt.Sprintf("%7.2f %10s  %s", 100*r.Share, measure.Amount(r.Self, t.Unit), terminal.Plain(r.Name, ""))
		if t.Kind == "function" {
			line = fmt.Sprintf("%7.2f %10s %10s  %s", 100*r.Share, measure.Amount(r.Self, t.Unit), measure.Amount(r.Total, t.Unit), terminal.Plain(r.Name, ""))
		}
		if numbered {
			mark := "   "
			if i < 9 {
				mark = fmt.Sprintf("%d  ", i+1)
			}
			line = mark + line
		}
		out = append(out, line)
	}
	if len(t.Rows) == 0 {
		out = append(out, "nothing was sampled")
	}
	return out
}
