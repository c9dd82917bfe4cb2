// Package reading are the commands that show a take: its facts, hot functions, trees and stacks. It
// has no state.
package reading

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"entelon/cmd/entelon/option"
	"entelon/cmd/entelon/terminal"
	"entelon/core/callcounts"
	"entelon/core/calltree"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scope"
)

// HotJSON is what `entelon hot --json` prints.
type HotJSON struct {
	Scope     string        `json:"scope"` // "" is everything
	Measure   string        `json:"measure"`
	Unit      string        `json:"unit"`
	Total     int64         `json:"total"`
	Samples   int64         `json:"samples"`
	Counted   bool          `json:"counted"`        // every event is in it: no sampling error
	Lost      int64         `json:"lost,omitempty"` // events that are missing: the total is then partial
	Functions []FunctionOut `json:"functions"`
	Rows      []groupOut    `json:"rows,omitempty"` // where they are not functions
}

// FunctionOut is a function in HotJSON.
type FunctionOut struct {
	Name       string  `json:"name"`
	Short      string  `json:"short"`
	Linkage    string  `json:"linkage"` // the linker's name, "" where it is the same
	Module     string  `json:"module"`
	Kind       string  `json:"kind"` // whose code: own, library, runtime, kernel, jit, mark or unknown
	Runs       string  `json:"runs"` // native, interpreted, or made at run time
	File       string  `json:"file"`
	Line       uint32  `json:"line"`
	Self       int64   `json:"self"`
	Total      int64   `json:"total"`
	SelfShare  float64 `json:"self_share"`
	TotalShare float64 `json:"total_share"`
	Calls      *int64  `json:"calls,omitempty"` // of an exact run: how often it was called
}

// Hot is `entelon hot`.
func Hot() *cobra.Command {
	var by string
	var limit int
	var asJSON, full bool
	var fold, rows string
	var chosen option.Choice
	c := &cobra.Command{
		Use:   "hot FILE…",
		Short: "List a take's hot functions, threads, processes, modules or files",
		Long: `Lists what costs most. Several takes of the same measures are added up. With --rows
the rows are threads, processes, modules (files and packages), whose code it is, or
source files; of these, self is the cost of the functions in them.`,
		Example: `  entelon hot engraved.take
  entelon hot engraved.take --by total --limit 50
  entelon hot engraved-1.take engraved-2.take
  entelon hot engraved.take --rows thread
  entelon hot inkraster.take --full
  entelon hot partbook.take --fold runtime
  entelon hot engraved.take --measure waiting
  entelon hot engraved.take --scope 'thread is worker-* and function is slur.Route and not idle'
  entelon hot engraved.take --json`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if by != "self" && by != "total" {
				return fmt.Errorf("--by %s: choose self or total", by)
			}
			if limit < 0 {
				return fmt.Errorf("--limit %d: give a number of rows, or 0 for all", limit)
			}
			if err := (calltree.Shape{Fold: fold}).Check(); err != nil {
				return fmt.Errorf("--fold %s: %w", fold, err)
			}
			if !slices.Contains(RowKinds, rows) {
				return fmt.Errorf("--rows %s: choose from %s", rows, strings.Join(RowKinds, ", "))
			}
			t, err := option.ReadTakes(args)
			if err != nil {
				return err
			}
			m, sc, err := chosen.Of(t)
			if err != nil {
				return err
			}
			if asJSON && !cmd.Flags().Changed("limit") {
				limit = 0
			}
			if rows != "function" {
				return hotGroups(cmd.OutOrStdout(), t, m, sc, rows, limit, fold, asJSON)
			}
			list, c := HotRows(t, m, sc, by, limit, fold)
			if asJSON {
				return terminal.PrintJSON(cmd.OutOrStdout(), hotOut(t, sc, list, c))
			}
			return printHot(cmd.OutOrStdout(), t, sc, list, c, full)
		},
	}
	c.Flags().StringVar(&by, "by", "self", "order by self or total cost")
	c.Flags().StringVar(&rows, "rows", "function", "what the rows are: "+strings.Join(RowKinds, ", "))
	_ = c.RegisterFlagCompletionFunc("rows", cobra.FixedCompletions(RowKinds, cobra.ShellCompDirectiveNoFileComp))
	c.Flags().IntVar(&limit, "limit", 30, "how many rows; 0 means all")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON, all rows unless --limit is given")
	c.Flags().BoolVar(&full, "full", false, "print names in full, with packages, parameters and template arguments")
	chosen.Add(c)
	c.Flags().StringVar(&fold, "fold", "", "\"runtime\": count the functions of the language runtime as their callers'; \"foreign\": count what is not the program's own as the call into it")
	_ = c.RegisterFlagCompletionFunc("fold", cobra.FixedCompletions([]string{"runtime", "foreign"}, cobra.ShellCompDirectiveNoFileComp))
	_ = c.RegisterFlagCompletionFunc("by", cobra.FixedCompletions([]string{"self", "total"}, cobra.ShellCompDirectiveNoFileComp))
	return option.TakeFile(c)
}

func hotOut(t *profile.Take, sc scope.Scope, rows []hotRow, c *calltree.Cost) HotJSON {
	m, total := t.Profile.Words(c.Measure), c.Total(0)
	out := HotJSON{Scope: sc.String(), Measure: m.Name, Unit: m.Unit, Total: total, Samples: c.TotalSamples(0), Counted: m.Counted, Lost: t.Missing(c.Measure), Functions: []FunctionOut{}}
	for _, r := range rows {
		var calls *int64
		if t.Facts.Exact != nil {
			calls = &r.calls
		}
		out.Functions = append(out.Functions, FunctionOut{Calls: calls, Name: r.Name, Short: profile.Short(r.Name), Linkage: r.linkage, Module: r.module, Kind: r.kind, Runs: r.runs, File: r.file, Line: r.line, Self: r.Self, Total: r.Total,
			SelfShare: terminal.Share(r.Self, total), TotalShare: terminal.Share(r.Total, total)})
	}
	return out
}

// wholeOf says what all of a measure is: "12.4 s of CPU time", "60 000 instructions".
func wholeOf(v int64, m measure.Column) string {
	if m.Unit == measure.Count {
		return measure.Amount(v, m.Unit) + " " + m.Label
	}
	return measure.Amount(v, m.Unit) + " of " + m.Label
}

func printHot(w io.Writer, t *profile.Take, sc scope.Scope, rows []hotRow, c *calltree.Cost, full bool) error {
	m, total := t.Profile.Words(c.Measure), c.Total(0)
	restsOn := terminal.Thin(c.TotalSamples(0)) + " samples"
	if t.Facts.Exact != nil {
		restsOn = "every one counted"
	}
	fmt.Fprintf(w, "%s %s   100 %% = %s%s · %s\n", t.Settings.Program, t.Settings.Build, wholeOf(total, m), profile.Partial(t.Missing(c.Measure)), restsOn)
	if !sc.All() {
		fmt.Fprintf(w, "scope: %s · the rest of %s is left out\n", sc, measure.Amount(t.Profile.Total(c.Measure)-total, m.Unit))
	}
	tw := tabwriter.NewWriter(w, 0, 0, 2, ' ', tabwriter.AlignRight)
	unit, write := "", func(v int64) string { return measure.Amount(v, m.Unit) }
	switch m.Unit {
	case "ns":
		unit, write = " s", func(v int64) string { return fmt.Sprintf("%.3f", float64(v)/1e9) }
	case "bytes":
		unit, write = " KiB", func(v int64) string { return fmt.Sprintf("%.1f", float64(v)/1024) }
	}
	counted := ""
	if t.Facts.Exact != nil {
		counted = "calls\tself a call\t"
	}
	fmt.Fprintf(tw, "self %%\tself%s\ttotal %%\ttotal%s\t%s  function\n", unit, unit, counted)
	for _, r := range rows {
		where := ""
		if r.file != "" {
			where = fmt.Sprintf("  (%s:%d)", r.file, r.line)
		}
		if counted != "" {
			counted = "–\t–\t"
			if r.calls > 0 {
				counted = fmt.Sprintf("%s\t%.1f\t", terminal.Thin(r.calls), float64(r.Self)/float64(r.calls))
			}
		}
		fmt.Fprintf(tw, "%.2f\t%s\t%.2f\t%s\t%s  %s%s\n", 100*terminal.Share(r.Self, total), write(r.Self), 100*terminal.Share(r.Total, total), write(r.Total), counted, terminal.Shown(r.Name, full), where)
	}
	return tw.Flush()
}

// hotRow is a function's row with its texts.
type hotRow struct {
	calltree.FunctionCost
	Name, linkage, module, file string
	kind, runs                  string
	line                        uint32
	calls                       int64 // that an exact run counted, in scope
}

// HotRows returns the first rows of a take's hot functions and the total.
func HotRows(t *profile.Take, measure int, sc scope.Scope, by string, limit int, fold string) ([]hotRow, *calltree.Cost) {
	tr := calltree.Shaped(t.Profile, calltree.Shape{Fold: fold})
	c := tr.Cost(measure, sc)
	rows := calltree.Functions(tr, c)
	if by == "total" {
		calltree.SortByTotal(rows)
	}
	if limit > 0 && len(rows) > limit {
		rows = rows[:limit]
	}
	calls := exactCalls(t, sc)
	out := make([]hotRow, len(rows))
	for i, r := range rows {
		f := t.Profile.Functions[r.Function]
		out[i] = hotRow{FunctionCost: r, Name: t.Profile.Strings[f.Name], linkage: t.Profile.Strings[f.Linkage], module: t.Profile.ModulePath(r.Function), file: t.Profile.Strings[f.File], kind: f.Kind.String(), runs: t.Profile.Modules[f.Module].Kind.Runs(), line: f.Line}
		if calls != nil {
			out[i].calls = calls.Of(r.Function)
		}
	}
	return out, c
}

// exactCalls is how often functions were called in a scope, of an exact run; nil of samples.
func exactCalls(t *profile.Take, sc scope.Scope) *callcounts.Counts {
	column, _ := callcounts.CallColumns(t.Profile)
	if t.Facts.Exact == nil || column < 0 {
		return nil
	}
	tr := calltree.Shaped(t.Profile, calltree.Shape{})
	return callcounts.In(tr, tr.Cost(column, sc), nil)
}
