package reading

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"text/tabwriter"

	"entelon/cmd/entelon/terminal"
	"entelon/core/calltree"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scope"
)

// RowKinds are what the rows of a table can be.
var RowKinds = []string{"function", "thread", "process", "module", "code", "file"}

// groupOut is a row that is not a function.
type groupOut struct {
	Name  string  `json:"name"`
	Self  int64   `json:"self"`
	Share float64 `json:"self_share"`
}

// groupRows adds a cost up by thread, process, module, whose code it is, or file, the
// largest first. The rows sum to the total of the scope.
func groupRows(t *profile.Take, m int, sc scope.Scope, rows, fold string) ([]groupOut, *calltree.Cost) {
	p := t.Profile
	tr := calltree.Shaped(p, calltree.Shape{Fold: fold})
	c := tr.Cost(m, sc)
	sum := map[string]int64{}
	switch rows {
	case "thread", "process":
		for _, x := range tr.Threads(m, sc) {
			th := p.Threads[x.Thread]
			pr := p.Processes[th.Process]
			name := fmt.Sprintf("%s %d", p.Strings[pr.Name], pr.PID)
			if rows == "thread" {
				name = fmt.Sprintf("%s %d in %s", p.Strings[th.Name], th.TID, name)
			}
			sum[name] += x.Value
		}
	default:
		for _, f := range calltree.Functions(tr, c) {
			if f.Self == 0 {
				continue
			}
			fn := p.Functions[f.Function]
			name := fn.Kind.String()
			switch rows {
			case "module":
				name = cmp.Or(p.ModulePath(f.Function), "unknown")
			case "file":
				name = cmp.Or(p.Strings[fn.File], "unknown")
			}
			sum[name] += f.Self
		}
	}
	var out []groupOut
	for name, v := range sum {
		out = append(out, groupOut{name, v, terminal.Share(v, c.Total(0))})
	}
	slices.SortFunc(out, func(a, b groupOut) int {
		return cmp.Or(cmp.Compare(b.Self, a.Self), cmp.Compare(a.Name, b.Name))
	})
	return out, c
}

// hotGroups prints such rows.
func hotGroups(w io.Writer, t *profile.Take, m int, sc scope.Scope, rows string, limit int, fold string, asJSON bool) error {
	list, c := groupRows(t, m, sc, rows, fold)
	if limit > 0 && len(list) > limit {
		list = list[:limit]
	}
	words, total := t.Profile.Words(m), c.Total(0)
	if asJSON {
		return terminal.PrintJSON(w, HotJSON{Scope: sc.String(), Measure: words.Name, Unit: words.Unit, Total: total, Samples: c.TotalSamples(0), Counted: words.Counted, Lost: t.Missing(m), Functions: []FunctionOut{}, Rows: list})
	}
	fmt.Fprintf(w, "%s %s   100 %% = %s%s\n", t.Settings.Program, t.Settings.Build, wholeOf(total, words), profile.Partial(t.Missing(m)))
	tw := tabwriter.NewWriter(w, 0, 0, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintf(tw, "self %%\tself\t  %s\n", rows)
	for _, r := range list {
		fmt.Fprintf(tw, "%.2f\t%s\t  %s\n", 100*r.Share, measure.Amount(r.Self, words.Unit), terminal.Plain(r.Name, ""))
	}
	return tw.Flush()
}
