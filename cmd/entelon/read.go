package main

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"entelon/codec/stacks"
	"entelon/codec/take"
	"entelon/core/profile"
	"entelon/core/reading"
	"entelon/core/scope"
	"entelon/core/tree"
)

var salvage bool

// takeFile prepares a command that reads take files.
func takeFile(c *cobra.Command) *cobra.Command {
	c.Flags().BoolVar(&salvage, "salvage", false, "read the whole blocks of a file that is cut off or damaged")
	c.ValidArgsFunction = func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		return []string{"take"}, cobra.ShellCompDirectiveFilterFileExt
	}
	return c
}

// readTake reads a take and says on standard error what is not as it should be.
func readTake(path string) (*profile.Take, error) {
	t, err := take.ReadFile(path, take.Options{Salvage: salvage})
	if err != nil {
		return nil, err
	}
	if !t.Whole {
		w := t.Facts.Warnings[len(t.Facts.Warnings)-1]
		fmt.Fprintf(os.Stderr, "entelon: %s: %s %s\n", path, w.Text, w.Remedy)
	}
	return t, nil
}

// hotRow is a function's row with its texts.
type hotRow struct {
	tree.FunctionCost
	name, linkage, module, file string
	kind, runs                  string
	line                        uint32
}

// shown is a function's name as a table shows it.
func shown(name string, full bool) string {
	if full {
		return name
	}
	return reading.Short(name)
}

// hotRows returns the first rows of a take's hot functions and the total.
func hotRows(t *profile.Take, measure int, by string, limit int, fold bool) ([]hotRow, *tree.Cost) {
	tr := tree.New(t.Profile)
	if fold {
		tr = tree.NewFolded(t.Profile, tree.Runtime(t.Profile))
	}
	c := tr.Cost(measure, scope.Scope{})
	rows := tr.Functions(c)
	if by == "total" {
		tree.SortByTotal(rows)
	}
	if limit > 0 && len(rows) > limit {
		rows = rows[:limit]
	}
	out := make([]hotRow, len(rows))
	for i, r := range rows {
		f := t.Profile.Functions[r.Function]
		out[i] = hotRow{r, t.Profile.Strings[f.Name], t.Profile.Strings[f.Linkage], t.Profile.ModulePath(r.Function), t.Profile.Strings[f.File], f.Kind.String(), t.Profile.Modules[f.Module].Kind.Runs(), f.Line}
	}
	return out, c
}

func printJSON(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

type hotJSON struct {
	Measure   string        `json:"measure"`
	Unit      string        `json:"unit"`
	Total     int64         `json:"total"`
	Samples   int64         `json:"samples"`
	Counted   bool          `json:"counted"` // every event is in it: no sampling error
	Functions []functionOut `json:"functions"`
}

type functionOut struct {
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
}

func hotCommand() *cobra.Command {
	var by string
	var limit int
	var asJSON, full bool
	var fold, measure string
	c := &cobra.Command{
		Use:   "hot FILE",
		Short: "List a take's hot functions",
		Example: `  entelon hot engraved.take
  entelon hot engraved.take --by total --limit 50
  entelon hot inkraster.take --full
  entelon hot partbook.take --fold runtime
  entelon hot engraved.take --measure waiting
  entelon hot engraved.take --json`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if by != "self" && by != "total" {
				return fmt.Errorf("--by %s: choose self or total", by)
			}
			if limit < 0 {
				return fmt.Errorf("--limit %d: give a number of rows, or 0 for all", limit)
			}
			if fold != "" && fold != "runtime" {
				return fmt.Errorf("--fold %s: only the runtime can be folded", fold)
			}
			t, err := readTake(args[0])
			if err != nil {
				return err
			}
			m, err := t.Profile.MeasureNamed(measure)
			if err != nil {
				return fmt.Errorf("--measure: %w", err)
			}
			if asJSON && !cmd.Flags().Changed("limit") {
				limit = 0
			}
			rows, c := hotRows(t, m, by, limit, fold != "")
			if asJSON {
				return printJSON(cmd.OutOrStdout(), hotOut(t, rows, c))
			}
			return printHot(cmd.OutOrStdout(), t, rows, c, full)
		},
	}
	c.Flags().StringVar(&by, "by", "self", "order by self or total cost")
	c.Flags().IntVar(&limit, "limit", 30, "how many rows; 0 means all")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON, all rows unless --limit is given")
	c.Flags().BoolVar(&full, "full", false, "print names in full, with packages, parameters and template arguments")
	measureFlag(c, &measure)
	c.Flags().StringVar(&fold, "fold", "", "\"runtime\": count the functions of the language runtime as their callers'")
	_ = c.RegisterFlagCompletionFunc("fold", cobra.FixedCompletions([]string{"runtime"}, cobra.ShellCompDirectiveNoFileComp))
	_ = c.RegisterFlagCompletionFunc("by", cobra.FixedCompletions([]string{"self", "total"}, cobra.ShellCompDirectiveNoFileComp))
	return takeFile(c)
}

func hotOut(t *profile.Take, rows []hotRow, c *tree.Cost) hotJSON {
	m, total := t.Profile.Words(c.Measure), c.Total[0]
	out := hotJSON{m.Name, m.Unit, total, c.TotalSamples[0], m.Counted, []functionOut{}}
	for _, r := range rows {
		out.Functions = append(out.Functions, functionOut{r.name, reading.Short(r.name), r.linkage, r.module, r.kind, r.runs, r.file, r.line, r.Self, r.Total,
			share(r.Self, total), share(r.Total, total)})
	}
	return out
}

func share(v, total int64) float64 {
	if total == 0 {
		return 0
	}
	return float64(v) / float64(total)
}

func printHot(w io.Writer, t *profile.Take, rows []hotRow, c *tree.Cost, full bool) error {
	m, total := t.Profile.Words(c.Measure), c.Total[0]
	fmt.Fprintf(w, "%s %s   100 %% = %s of %s · %s samples\n", t.Settings.Program, t.Settings.Build, profile.Amount(total, m.Unit), m.Label, thin(c.TotalSamples[0]))
	tw := tabwriter.NewWriter(w, 0, 0, 2, ' ', tabwriter.AlignRight)
	unit, write := "", func(v int64) string { return fmt.Sprint(v) }
	switch m.Unit {
	case "ns":
		unit, write = " s", func(v int64) string { return fmt.Sprintf("%.3f", float64(v)/1e9) }
	case "bytes":
		unit, write = " KiB", func(v int64) string { return fmt.Sprintf("%.1f", float64(v)/1024) }
	}
	fmt.Fprintf(tw, "self %%\tself%s\ttotal %%\ttotal%s\t  function\n", unit, unit)
	for _, r := range rows {
		where := ""
		if r.file != "" {
			where = fmt.Sprintf("  (%s:%d)", r.file, r.line)
		}
		fmt.Fprintf(tw, "%.2f\t%s\t%.2f\t%s\t  %s%s\n", 100*share(r.Self, total), write(r.Self), 100*share(r.Total, total), write(r.Total), shown(r.name, full), where)
	}
	return tw.Flush()
}

type factsJSON struct {
	Program       string            `json:"program"`
	Build         string            `json:"build"`
	BuildID       string            `json:"build_id"`
	Revision      string            `json:"revision"`
	Command       []string          `json:"command"`
	Dir           string            `json:"dir"`
	Note          string            `json:"note"`
	StartedAt     time.Time         `json:"started_at"`
	DurationNS    int64             `json:"duration_ns"`
	CPUNS         int64             `json:"cpu_ns"`
	RateHz        int               `json:"rate_hz"`
	Event         string            `json:"event"`
	Measures      []measureOut      `json:"measures"`
	Unwind        string            `json:"unwind"`
	Samples       int64             `json:"samples"`
	Lost          int64             `json:"lost"`
	CompleteShare float64           `json:"complete_share"`
	CutOff        []profile.Cut     `json:"cut_off"`
	StackBytes    int               `json:"stack_bytes"`
	Interpreted   int64             `json:"interpreted_stacks"`
	Torn          int64             `json:"torn_stacks"`
	RuntimeSet    string            `json:"runtime_set"`
	CollectorNS   int64             `json:"collector_cpu_ns"`
	ExitCode      *int              `json:"exit_code"`
	EndedBy       string            `json:"ended_by"`
	Whole         bool              `json:"whole"`
	Processes     []processOut      `json:"processes"`
	Threads       []threadOut       `json:"threads"`
	Modules       []moduleOut       `json:"modules"`
	Machine       profile.Machine   `json:"machine"`
	Warnings      []profile.Warning `json:"warnings"`
	Counters      []profile.Counter `json:"counters"`
	NotCounted    []string          `json:"not_counted"`
	Usage         *profile.Usage    `json:"usage"`
	Bare          *profile.Bare     `json:"bare"`
	Slowdown      *float64          `json:"slowdown"` // by the run without sampling before
	Work          float64           `json:"work"`
	Series        string            `json:"series"`
	Turn          int               `json:"turn"`
	Turns         int               `json:"turns"`
}

type measureOut struct {
	Name    string `json:"name"`
	Label   string `json:"label"`
	Unit    string `json:"unit"`
	Counted bool   `json:"counted"` // every event is in it: no sampling error
	Total   int64  `json:"total"`
}

type processOut struct {
	PID  uint32 `json:"pid"`
	Name string `json:"name"`
}

type threadOut struct {
	PID     uint32 `json:"pid"`
	TID     uint32 `json:"tid"`
	Name    string `json:"name"`
	Samples int64  `json:"samples"`
}

type moduleOut struct {
	Path    string `json:"path"`
	BuildID string `json:"build_id"`
	Kind    string `json:"kind"`
}

func factsOut(t *profile.Take) factsJSON {
	p, f, s := t.Profile, t.Facts, t.Settings
	out := factsJSON{
		Program: s.Program, Build: s.Build, BuildID: f.BuildID, Revision: f.Revision, Command: append([]string{}, s.Command...),
		Dir: s.Dir, Note: s.Note, StartedAt: t.Machine.StartedAt, DurationNS: f.DurationNS, CPUNS: f.CPUNS, RateHz: s.RateHz,
		Event: s.Event, Unwind: s.Unwind, Samples: f.Samples, Lost: f.Lost, CompleteShare: f.CompleteShare(), CutOff: append([]profile.Cut{}, f.CutOff...), StackBytes: s.StackBytes, Interpreted: f.Interpreted, Torn: f.Torn, RuntimeSet: f.RuntimeSet,
		CollectorNS: f.CollectorNS, ExitCode: f.ExitCode, EndedBy: f.EndedBy, Whole: t.Whole,
		Processes: []processOut{}, Threads: []threadOut{}, Modules: []moduleOut{}, Machine: t.Machine,
		Warnings: append([]profile.Warning{}, f.Warnings...),
		Counters: append([]profile.Counter{}, f.Counters...), NotCounted: append([]string{}, f.NotCounted...), Usage: f.Usage, Bare: f.Bare, Work: f.Work,
		Series: s.Series, Turn: s.Turn, Turns: s.Turns,
	}
	if share, ok := f.Slowdown(); ok {
		out.Slowdown = &share
	}
	for _, x := range p.Processes {
		out.Processes = append(out.Processes, processOut{x.PID, p.Strings[x.Name]})
	}
	counts := make([]int64, len(p.Threads))
	for _, id := range p.Samples.Thread {
		counts[id]++
	}
	for i := range p.Measures {
		m := p.Words(i)
		out.Measures = append(out.Measures, measureOut{m.Name, m.Label, m.Unit, m.Counted, p.Total(i)})
	}
	for i, x := range p.Threads {
		out.Threads = append(out.Threads, threadOut{p.Processes[x.Process].PID, x.TID, p.Strings[x.Name], counts[i]})
	}
	for _, m := range p.Modules[1:] {
		if m.Kind != profile.KindMark {
			out.Modules = append(out.Modules, moduleOut{p.Strings[m.Path], p.Strings[m.BuildID], m.Kind.String()})
		}
	}
	return out
}

func factsCommand() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "facts FILE",
		Short: "Show how a take was made, and what to know before trusting it",
		Example: `  entelon facts engraved.take
  entelon facts engraved.take --json`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			t, err := readTake(args[0])
			if err != nil {
				return err
			}
			out := factsOut(t)
			if asJSON {
				return printJSON(cmd.OutOrStdout(), out)
			}
			return printFacts(cmd.OutOrStdout(), t, out)
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return takeFile(c)
}

func printFacts(w io.Writer, t *profile.Take, f factsJSON) error {
	tw := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	row := func(k, format string, args ...any) { fmt.Fprintf(tw, "%s\t%s\n", k, fmt.Sprintf(format, args...)) }
	row("program", "%s", f.Program)
	row("build", "%s", f.Build)
	row("build ID", "%s", f.BuildID)
	row("command", "%s", strings.Join(f.Command, " "))
	row("directory", "%s", f.Dir)
	row("started", "%s", f.StartedAt.Format(time.RFC3339))
	row("duration", "%.2f s", float64(f.DurationNS)/1e9)
	row("CPU by the kernel", "%.2f s", float64(f.CPUNS)/1e9)
	row("rate", "%d a second (%s)", f.RateHz, f.Event)
	for _, m := range f.Measures {
		row(m.Label, "%s", profile.Amount(m.Total, m.Unit))
	}
	row("samples", "%s", thin(f.Samples))
	row("lost", "%s", thin(f.Lost))
	row("complete stacks", "%.2f %% (%s)", 100*f.CompleteShare, f.Unwind)
	for _, c := range f.CutOff {
		row("cut off", "%s: %s", thin(c.Stacks), c.Reason)
	}
	if f.Interpreted > 0 {
		row("interpreted", "%s stacks have functions of an interpreter; %s more were hit while it changed them", thin(f.Interpreted), thin(f.Torn))
	}
	if f.RuntimeSet != "" {
		row("runtime", "%s", f.RuntimeSet)
	}
	row("collector", "%.2f s CPU", float64(f.CollectorNS)/1e9)
	if share, ok := t.Facts.Slowdown(); ok {
		row("without sampling", "%.2f s; sampling made it %+.1f %% slower (one run each)", float64(f.Bare.DurationNS)/1e9, 100*share)
	}
	if f.Work > 0 {
		row("work", "%g units, %s of CPU time each", f.Work, profile.Amount(int64(float64(f.CPUNS)/f.Work), "ns"))
	}
	for _, c := range f.Counters {
		row(c.Name, "%s", thin(c.Value))
	}
	if len(f.NotCounted) > 0 {
		row("not counted here", "%s", strings.Join(f.NotCounted, ", "))
	}
	if f.Usage != nil {
		row("most memory", "%s", profile.Amount(f.Usage.MostResident, "bytes"))
	}
	if t.Settings.Turns > 1 {
		row("series", "%s, take %d of %d", t.Settings.Series, t.Settings.Turn, t.Settings.Turns)
	}
	row("ended by", "%s", f.EndedBy)
	row("processes", "%d", len(f.Processes))
	row("threads", "%d", len(f.Threads))
	row("machine", "%s, Linux %s, %d processors", f.Machine.Host, f.Machine.Kernel, f.Machine.Processors)
	if f.Note != "" {
		row("note", "%s", f.Note)
	}
	tr := tree.New(t.Profile)
	cost := tr.Cost(0, scope.Scope{})
	var text strings.Builder
	for _, part := range reading.Take(tr, cost, tr.Functions(cost)) {
		text.WriteString(part.Text)
	}
	row("reading", "%s", text.String())
	for _, x := range f.Warnings {
		row("warning", "%s %s", x.Text, x.Remedy)
	}
	return tw.Flush()
}

// measureFlag adds the choice among a take's measures.
func measureFlag(c *cobra.Command, name *string) {
	c.Flags().StringVar(name, "measure", "", "of several measures of a take, the one with this `NAME` (default the first)")
	_ = c.RegisterFlagCompletionFunc("measure", func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		var out []string
		if len(args) > 0 {
			if t, err := take.ReadFile(args[0], take.Options{Salvage: true}); err == nil {
				for i := range t.Profile.Measures {
					w := t.Profile.Words(i)
					out = append(out, w.Name+"\t"+w.Label)
				}
			}
		}
		return out, cobra.ShellCompDirectiveNoFileComp
	})
}

func stacksCommand() *cobra.Command {
	var measure string
	c := &cobra.Command{
		Use:   "stacks FILE",
		Short: "Print every distinct stack with its number of samples, one a line",
		Long: `Prints every distinct stack, root first, with its number of samples, one a line;
with --measure, with its value of that measure instead.`,
		Example: `  entelon stacks engraved.take | sort -k2 -n
  entelon stacks engraved.take --measure waiting`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			t, err := readTake(args[0])
			if err != nil {
				return err
			}
			m, err := t.Profile.MeasureNamed(measure)
			if err != nil {
				return fmt.Errorf("--measure: %w", err)
			}
			return stacks.Write(cmd.OutOrStdout(), t.Profile, m, measure != "")
		},
	}
	measureFlag(c, &measure)
	return takeFile(c)
}

// thin writes a number with thin spaces between groups of three digits.
func thin(n int64) string {
	s := fmt.Sprint(n)
	neg := strings.HasPrefix(s, "-")
	s = strings.TrimPrefix(s, "-")
	var b strings.Builder
	for i, r := range s {
		if i > 0 && (len(s)-i)%3 == 0 {
			b.WriteRune('\u202f')
		}
		b.WriteRune(r)
	}
	if neg {
		return "−" + b.String()
	}
	return b.String()
}
