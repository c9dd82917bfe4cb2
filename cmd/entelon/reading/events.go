package reading

import (
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"entelon/cmd/entelon/option"
	"entelon/cmd/entelon/terminal"
	"entelon/codec"
	"entelon/codec/formats"
	"entelon/core/events"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scope"
)

// EventsJSON is what `entelon events --json` prints.
type EventsJSON struct {
	Scope   string          `json:"scope"`
	Kind    string          `json:"kind"`
	Unit    measure.Unit    `json:"unit"`
	Kinds   []EventKindJSON `json:"kinds"`
	All     int64           `json:"all_rows"` // in scope, whatever --limit
	Events  int64           `json:"events"`   // that these stand for, as far as that was counted
	Total   int64           `json:"total"`    // of their amounts, in the unit
	Median  int64           `json:"p50"`
	Ninety  int64           `json:"p90"`
	Almost  int64           `json:"p99"`
	Largest int64           `json:"max"`
	// Columns are what is known of each row beside when and where it was; By says of those that are texts
	// what the rows of each add up to.
	Columns []EventColumnJSON `json:"columns"`
	By      []EventGroupJSON  `json:"by"`
	Rows    []EventJSON       `json:"rows"`
}

// EventColumnJSON is a column in EventsJSON.
type EventColumnJSON struct {
	Name string `json:"name"`
	Unit string `json:"unit"` // "ns", "bytes", "count", "text" or "address"
	Rows int64  `json:"rows"` // of the take that have it
}

// EventGroupJSON is what the rows of each text of a column add up to, the largest ones first.
type EventGroupJSON struct {
	Column string          `json:"column"`
	Texts  []EventTextJSON `json:"texts"`
	Others int             `json:"others"` // more texts, which are not named,
	Rows   int64           `json:"others_rows"`
	Total  int64           `json:"others_total"`
	None   int64           `json:"none"` // rows without any
}

// EventTextJSON is one text in an EventGroupJSON.
type EventTextJSON struct {
	Text  string `json:"text"`
	Rows  int64  `json:"rows"`
	Total int64  `json:"total"`
}

// EventKindJSON is a kind in EventsJSON.
type EventKindJSON struct {
	Name   string `json:"name"`
	Label  string `json:"label"`
	Events int64  `json:"events"` // that the take counted; 0: not known
	Single int64  `json:"single"` // of them, those with a row of their own
	Lost   int64  `json:"lost,omitempty"`
	Apart  bool   `json:"apart,omitempty"` // what has no row of its own is missing, and not added to another one
}

// EventJSON is a row in EventsJSON.
type EventJSON struct {
	AtNS     int64    `json:"at_ns"` // since the take began; of what takes time, its beginning
	Amount   int64    `json:"amount"`
	Events   int64    `json:"events"` // that it stands for; 0: not counted
	Process  string   `json:"process"`
	PID      uint32   `json:"pid"`
	Thread   string   `json:"thread"`
	TID      uint32   `json:"tid"`
	What     string   `json:"what"`
	Function string   `json:"function,omitempty"` // of the program's own code
	File     string   `json:"file,omitempty"`
	Line     uint32   `json:"line,omitempty"`
	Stack    []string `json:"stack,omitempty"` // the innermost first

	Attributes map[string]any `json:"attributes,omitempty"` // by column: numbers, and texts
}

// Events is `entelon events`.
func Events() *cobra.Command {
	var kind, sort, scopeText, where, group string
	var limit int
	var stacks, full, asJSON bool
	c := &cobra.Command{
		Use:   "events FILE",
		Short: "List what a take recorded event by event: waits, system calls, disk requests, …",
		Long: `Lists single events of a take, the longest or largest first: when each was, in which
thread, how long it took or how many bytes it moved, and where in the program. The
take must have measured them (--measure waiting, syscalls, disk, faults, allocations,
a tracepoint or a function).

Each event is a row, with what it was about: the file or the peer of a system call, its
error and its bytes; disk, bytes and latency of a request; where a page was missing;
arguments of a function; all fields of a tracepoint. Where events come faster than they
can be kept, the shortest or smallest are missing; the first lines say how many. In a
take that was made without root, other events than waits and system calls may be added
up, and a row then stands for several. What is written below the rows is over all rows
in scope, also those that --limit leaves out.

--where asks for events by what they were about: kind, name, duration and any column, with
"is", "matches", "over" or ">", "under" or "<", "at least", "at most". In a scope, also of
other commands, the same is written "in events where kind is disk and bytes > 1 MB".`,
		Example: `  entelon events engraved.take
  entelon events engraved.take --kind disk --sort bytes
  entelon events engraved.take --kind syscalls --where 'name is write and bytes > 1 MB' --by file
  entelon events engraved.take --kind waiting --scope 'not idle' --limit 20
  entelon events engraved.take --kind syscalls --sort time --stacks
  entelon events engraved.take --kind waiting --limit 0 --json`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if limit < 0 {
				return fmt.Errorf("--limit %d: give a number of rows, or 0 for all", limit)
			}
			t, sc, err := option.ReadInScope(args[0], scopeText)
			if err != nil {
				return err
			}
			kinds := events.KindsOf(t)
			k, err := events.Named(kinds, kind)
			if errors.Is(err, events.ErrNone) {
				return fmt.Errorf("%s: %w; take it with --measure waiting, syscalls or disk", args[0], err)
			}
			if err != nil {
				return fmt.Errorf("--kind: %w", err)
			}
			if where != "" {
				more, err := scope.InEvents(k.Name, where)
				if err != nil {
					return fmt.Errorf("--where: %w", err)
				}
				if _, more, err = (option.Choice{Scope: more.String()}).Of(t); err != nil {
					return err
				}
				sc = sc.And(more)
			}
			q := events.Question{Kind: k, Scope: sc, Limit: limit, Columns: events.ColumnsOf(t.Profile, &k)}
			if q.By, q.Column, err = orderOf(sort, &k, q.Columns); err != nil {
				return err
			}
			x := &listing{t: t, sc: sc, kinds: kinds, k: k, q: q, found: events.Find(t.Profile, q), stacks: stacks, full: full, by: group}
			if group != "" && !slices.ContainsFunc(x.found.Groups, func(g events.Group) bool { return g.Column == group }) {
				return fmt.Errorf("--by %s: these events have no such text", group)
			}
			if asJSON {
				return terminal.PrintJSON(cmd.OutOrStdout(), x.json())
			}
			return x.print(cmd.OutOrStdout())
		},
	}
	c.Flags().StringVar(&kind, "kind", "", "of several kinds of events, this `NAME` (default the first)")
	c.Flags().StringVar(&sort, "sort", "", "\"time\", or a `COLUMN` that is a number, such as duration or bytes, the largest first (default these, else time)")
	c.Flags().StringVar(&where, "where", "", "only events for which this `CONDITION` holds, such as: bytes > 1 MB and file is *.plate")
	c.Flags().StringVar(&group, "by", "", "also print what each text of this `COLUMN` adds up to, such as file")
	c.Flags().StringVar(&scopeText, "scope", "", "only the events that this `EXPRESSION` holds, such as: thread is worker-* and not idle")
	c.Flags().IntVar(&limit, "limit", 30, "how many rows, 0 for all")
	c.Flags().BoolVar(&stacks, "stacks", false, "print the stack of each")
	c.Flags().BoolVar(&full, "full", false, "print names in full, with packages, parameters and template arguments")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	_ = c.RegisterFlagCompletionFunc("sort", completeColumns(false))
	_ = c.RegisterFlagCompletionFunc("by", completeColumns(true))
	_ = c.RegisterFlagCompletionFunc("kind", completeKinds)
	return option.TakeFile(c)
}

// completeKinds completes the kinds of the take that is given.
func completeKinds(_ *cobra.Command, args []string, _ string) (out []string, _ cobra.ShellCompDirective) {
	if len(args) > 0 {
		if t, err := formats.ReadFile(args[0], codec.Options{Salvage: true}); err == nil {
			for _, k := range events.KindsOf(t) {
				out = append(out, k.Name+"\t"+k.Label)
			}
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// completeColumns completes the columns of the kind that is given: texts, or the others and the time.
func completeColumns(texts bool) func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return func(c *cobra.Command, args []string, _ string) (out []string, _ cobra.ShellCompDirective) {
		if len(args) == 0 {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		if !texts {
			out = append(out, "time")
		}
		t, err := formats.ReadFile(args[0], codec.Options{Salvage: true})
		if err != nil {
			return out, cobra.ShellCompDirectiveNoFileComp
		}
		kind, _ := c.Flags().GetString("kind")
		k, err := events.Named(events.KindsOf(t), kind)
		if err != nil {
			return out, cobra.ShellCompDirectiveNoFileComp
		}
		for _, column := range events.ColumnsOf(t.Profile, &k) {
			if is := column.Type == profile.AttributeText; is == texts {
				out = append(out, column.Name)
			}
		}
		return out, cobra.ShellCompDirectiveNoFileComp
	}
}

// orderOf reads --sort for a kind with these columns.
func orderOf(text string, k *events.Kind, columns []events.Column) (events.Order, *events.Column, error) {
	own := map[measure.Unit]string{measure.Nanoseconds: events.Duration, measure.Bytes: profile.AttributeMoved}[k.Unit]
	switch {
	case text == "time", text == "" && own == "":
		return events.ByTime, nil, nil
	case text == "" || text == own:
		return events.ByAmount, nil, nil
	}
	column, err := events.ColumnNamed(columns, text)
	if err != nil {
		return "", nil, fmt.Errorf("--sort %s: %w; or choose time", text, err)
	}
	return events.ByAmount, column, nil
}

// listing is what is printed of a kind.
type listing struct {
	t            *profile.Take
	sc           scope.Scope
	kinds        []events.Kind
	k            events.Kind
	q            events.Question
	found        events.Found
	stacks, full bool
	by           string
}

func (x *listing) json() EventsJSON {
	f := &x.found
	out := EventsJSON{
		Scope: x.sc.String(), Kind: x.k.Name, Unit: x.q.Unit(), Columns: []EventColumnJSON{}, By: []EventGroupJSON{}, Kinds: []EventKindJSON{}, Rows: []EventJSON{},
		All: f.All, Events: f.Events, Total: f.Total, Median: f.Median, Ninety: f.Ninety, Almost: f.Almost, Largest: f.Largest,
	}
	for _, k := range x.kinds {
		out.Kinds = append(out.Kinds, EventKindJSON{k.Name, k.Label, k.Events, k.Single, k.Lost, k.Apart})
	}
	for _, c := range x.q.Columns {
		out.Columns = append(out.Columns, EventColumnJSON{c.Name, c.Words(), c.Rows})
	}
	for _, g := range f.Groups {
		by := EventGroupJSON{Column: g.Column, Texts: []EventTextJSON{}, Others: g.Others, Rows: g.Rows, Total: g.Total, None: g.None}
		for _, t := range g.Texts {
			by.Texts = append(by.Texts, EventTextJSON(t))
		}
		out.By = append(out.By, by)
	}
	for _, r := range f.Rows {
		out.Rows = append(out.Rows, x.row(r))
	}
	return out
}

// nameOf is a function's name, or the words of a mark.
func nameOf(p *profile.Profile, f profile.FunctionID) string {
	if p.Functions[f].Mark != profile.NoMark {
		return profile.Short(p.FunctionName(f))
	}
	return p.FunctionName(f)
}

// row tells an event in words.
func (x *listing) row(r events.Row) EventJSON {
	p := x.t.Profile
	th := p.Threads[r.Thread]
	pr := p.Processes[th.Process]
	out := EventJSON{
		AtNS: r.Time, Amount: r.Amount, Events: r.Events, Process: p.Strings[pr.Name], PID: pr.PID,
		Thread: p.Strings[th.Name], TID: th.TID, What: nameOf(p, r.What),
	}
	if at, ok := events.Place(p, r.Stack); ok {
		fr := p.Frames[at]
		fn := p.Functions[fr.Function]
		out.Function, out.File, out.Line = p.FunctionName(fr.Function), p.Strings[fn.File], fr.Line
	}
	for i, v := range r.Values {
		if !v.Has {
			continue
		}
		if out.Attributes == nil {
			out.Attributes = map[string]any{}
		}
		switch c := &x.q.Columns[i]; c.Type {
		case profile.AttributeText:
			out.Attributes[c.Name] = v.Text
		case profile.AttributeAddress:
			out.Attributes[c.Name] = uint64(v.Number)
		default:
			out.Attributes[c.Name] = v.Number
		}
	}
	if x.stacks {
		p.Walk(r.Stack, func(id profile.FrameID) { out.Stack = append(out.Stack, nameOf(p, p.Frames[id].Function)) })
	}
	return out
}

func (x *listing) print(w io.Writer) error {
	f, k := &x.found, &x.k
	w = terminal.PlainWriter{To: w}
	all := k.Label + ": " + measure.Amount(f.All, measure.Count) + " rows"
	if f.Events > f.All {
		all += " for " + measure.Amount(f.Events, measure.Count) + " events"
	}
	unit := x.q.Unit()
	if unit != measure.Count {
		all += ", " + measure.Amount(f.Total, unit)
	}
	fmt.Fprintf(w, "%s %s   %s%s\n", x.t.Settings.Program, x.t.Settings.Build, all, profile.Partial(k.Lost))
	if k.Thinned() && k.Apart {
		fmt.Fprintf(w, "%s of %s %s %scame too fast to be kept: they are missing here, but not in the measure's total.\n",
			measure.Amount(k.Events-k.Single, measure.Count), measure.Amount(k.Events, measure.Count), k.Label, k.Short())
	} else if k.Thinned() {
		fmt.Fprintf(w, "%s of %s %s came too fast for a row each: they are added to the row before them.\n",
			measure.Amount(k.Events-k.Single, measure.Count), measure.Amount(k.Events, measure.Count), k.Label)
	}
	for _, other := range x.kinds {
		if other.Name != k.Name {
			fmt.Fprintf(w, "also recorded: %s (--kind %s)\n", other.Label, other.Name)
		}
	}
	if f.All == 0 {
		_, err := fmt.Fprintln(w, "no such event is in this scope")
		return err
	}
	tw := tabwriter.NewWriter(w, 0, 0, 2, ' ', tabwriter.AlignRight)
	amount := map[measure.Unit]string{measure.Nanoseconds: "duration", measure.Bytes: "bytes"}[unit]
	if x.q.Column != nil {
		amount = x.q.Column.Name
	}
	events := "events"
	if k.Apart {
		events = ""
	}
	fmt.Fprintf(tw, "at\t%s\t%s\t  thread, what, and where\n", amount, events)
	for i := range f.Rows {
		x.printRow(tw, &f.Rows[i])
	}
	if err := tw.Flush(); err != nil {
		return err
	}
	fmt.Fprintf(w, "%d of %s rows", len(f.Rows), measure.Amount(f.All, measure.Count))
	if x.numbers() {
		fmt.Fprintf(w, "; half are at most %s, 90 %% %s, 99 %% %s; the largest is %s", measure.Amount(f.Median, unit), measure.Amount(f.Ninety, unit), measure.Amount(f.Almost, unit), measure.Amount(f.Largest, unit))
	}
	if _, err := fmt.Fprintln(w); err != nil || x.by == "" {
		return err
	}
	return x.printGroup(w)
}

// numbers reports whether rows have a number.
func (x *listing) numbers() bool { return x.k.Unit != measure.Count || x.q.Column != nil }

// printGroup prints what each text of the column that was asked for adds up to.
func (x *listing) printGroup(w io.Writer) error {
	f := &x.found
	g := f.Groups[slices.IndexFunc(f.Groups, func(g events.Group) bool { return g.Column == x.by })]
	fmt.Fprintf(w, "\nby %s\n", g.Column)
	tw := tabwriter.NewWriter(w, 0, 0, 2, ' ', tabwriter.AlignRight)
	row := func(total, rows int64, text string) {
		sum := ""
		if x.numbers() {
			sum = measure.Amount(total, x.q.Unit())
		}
		fmt.Fprintf(tw, "%s\t%s\t  %s\n", sum, measure.Amount(rows, measure.Count), terminal.Plain(text, ""))
	}
	for _, t := range g.Texts {
		row(t.Total, t.Rows, t.Text)
	}
	if g.Others > 0 {
		row(g.Total, g.Rows, fmt.Sprintf("%d others", g.Others))
	}
	if g.None > 0 {
		fmt.Fprintf(tw, "\t%s\t  without\n", measure.Amount(g.None, measure.Count))
	}
	return tw.Flush()
}

func (x *listing) printRow(w io.Writer, of *events.Row) {
	r := x.row(*of)
	amount, events := "", ""
	if x.numbers() {
		amount = measure.Amount(r.Amount, x.q.Unit())
	}
	if r.Events > 0 && !x.k.Apart {
		events = measure.Amount(r.Events, measure.Count)
	}
	text := fmt.Sprintf("%s %d  %s", r.Thread, r.TID, terminal.Shown(r.What, x.full))
	if r.Function != "" && r.Function != r.What {
		text += "  " + terminal.Shown(r.Function, x.full)
	}
	if r.File != "" && r.Line > 0 {
		text += fmt.Sprintf(" (%s:%d)", filepath.Base(r.File), r.Line)
	}
	if about := x.q.About(of); len(about) > 0 {
		text += "  · " + strings.Join(about, ", ")
	}
	fmt.Fprintf(w, "%.6f s\t%s\t%s\t  %s\n", float64(r.AtNS)/1e9, amount, events, terminal.Plain(text, ""))
	for _, name := range r.Stack {
		fmt.Fprintf(w, "\t\t\t      %s\n", terminal.Plain(terminal.Shown(name, x.full), ""))
	}
}
