package reading

import (
	"errors"
	"fmt"
	"io"
	"path/filepath"
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
	Rows    []EventJSON     `json:"rows"`
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
}

// Events is `entelon events`.
func Events() *cobra.Command {
	var kind, sort, scopeText string
	var limit int
	var stacks, full, asJSON bool
	c := &cobra.Command{
		Use:   "events FILE",
		Short: "List what a take recorded event by event: waits, system calls, disk requests, …",
		Long: `Lists single events of a take, the longest or largest first: when each was, in which
thread, how long it took or how many bytes it moved, and where in the program. The
take must have measured them (--measure waiting, syscalls, disk, faults, allocations,
a tracepoint or a function).

Each wait and each system call is a row. Where these come faster than they can be
kept, the shortest are missing; other events that come very fast are added up in the
kernel, and a row stands for several. The first lines say how many, and each row says
for how many it stands where that was counted. What is written below the rows is over all rows in scope, also those that
--limit leaves out.`,
		Example: `  entelon events engraved.take
  entelon events engraved.take --kind disk --sort bytes
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
			by, err := orderOf(sort, &k)
			if err != nil {
				return err
			}
			x := &listing{t: t, sc: sc, kinds: kinds, k: k, found: events.Find(t.Profile, events.Question{Kind: k, Scope: sc, By: by, Limit: limit}), stacks: stacks, full: full}
			if asJSON {
				return terminal.PrintJSON(cmd.OutOrStdout(), x.json())
			}
			return x.print(cmd.OutOrStdout())
		},
	}
	c.Flags().StringVar(&kind, "kind", "", "of several kinds of events, this `NAME` (default the first)")
	c.Flags().StringVar(&sort, "sort", "", `"time", or "duration" or "bytes" where events have them (default these, else time)`)
	c.Flags().StringVar(&scopeText, "scope", "", "only the events that this `EXPRESSION` holds, such as: thread is worker-* and not idle")
	c.Flags().IntVar(&limit, "limit", 30, "how many rows, 0 for all")
	c.Flags().BoolVar(&stacks, "stacks", false, "print the stack of each")
	c.Flags().BoolVar(&full, "full", false, "print names in full, with packages, parameters and template arguments")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	_ = c.RegisterFlagCompletionFunc("sort", cobra.FixedCompletions([]string{"time", "duration", "bytes"}, cobra.ShellCompDirectiveNoFileComp))
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

// orderOf reads --sort for a kind.
func orderOf(text string, k *events.Kind) (events.Order, error) {
	amount := map[measure.Unit]string{measure.Nanoseconds: "duration", measure.Bytes: "bytes"}[k.Unit]
	switch {
	case text == "time", text == "" && amount == "":
		return events.ByTime, nil
	case text == "" || text == amount:
		return events.ByAmount, nil
	case text != "duration" && text != "bytes":
		return "", fmt.Errorf("--sort %s: choose time, duration or bytes", text)
	case amount == "":
		return "", fmt.Errorf("--sort %s: events of the kind %s have neither duration nor bytes; choose time", text, k.Name)
	}
	return "", fmt.Errorf("--sort %s: events of the kind %s have none; choose time or %s", text, k.Name, amount)
}

// listing is what is printed of a kind.
type listing struct {
	t            *profile.Take
	sc           scope.Scope
	kinds        []events.Kind
	k            events.Kind
	found        events.Found
	stacks, full bool
}

func (x *listing) json() EventsJSON {
	f := &x.found
	out := EventsJSON{
		Scope: x.sc.String(), Kind: x.k.Name, Unit: x.k.Unit, Kinds: []EventKindJSON{}, Rows: []EventJSON{},
		All: f.All, Events: f.Events, Total: f.Total, Median: f.Median, Ninety: f.Ninety, Almost: f.Almost, Largest: f.Largest,
	}
	for _, k := range x.kinds {
		out.Kinds = append(out.Kinds, EventKindJSON{k.Name, k.Label, k.Events, k.Single, k.Lost, k.Apart})
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
	if k.Unit != measure.Count {
		all += ", " + measure.Amount(f.Total, k.Unit)
	}
	fmt.Fprintf(w, "%s %s   %s%s\n", x.t.Settings.Program, x.t.Settings.Build, all, profile.Partial(k.Lost))
	if k.Thinned() && k.Apart {
		fmt.Fprintf(w, "%s of %s %s were shorter than 1 ms and came too fast to be kept: they are missing here, but not in the measure's total.\n",
			measure.Amount(k.Events-k.Single, measure.Count), measure.Amount(k.Events, measure.Count), k.Label)
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
	amount := map[measure.Unit]string{measure.Nanoseconds: "duration", measure.Bytes: "bytes"}[k.Unit]
	fmt.Fprintf(tw, "at\t%s\tevents\t  thread, what, and where\n", amount)
	for _, r := range f.Rows {
		x.printRow(tw, x.row(r))
	}
	if err := tw.Flush(); err != nil {
		return err
	}
	fmt.Fprintf(w, "%d of %s rows", len(f.Rows), measure.Amount(f.All, measure.Count))
	if k.Unit != measure.Count {
		fmt.Fprintf(w, "; half are at most %s, 90 %% %s, 99 %% %s; the largest is %s", measure.Amount(f.Median, k.Unit), measure.Amount(f.Ninety, k.Unit), measure.Amount(f.Almost, k.Unit), measure.Amount(f.Largest, k.Unit))
	}
	_, err := fmt.Fprintln(w)
	return err
}

func (x *listing) printRow(w io.Writer, r EventJSON) {
	amount, events := "", ""
	if x.k.Unit != measure.Count {
		amount = measure.Amount(r.Amount, x.k.Unit)
	}
	if r.Events > 0 {
		events = measure.Amount(r.Events, measure.Count)
	}
	text := fmt.Sprintf("%s %d  %s", r.Thread, r.TID, terminal.Shown(r.What, x.full))
	if r.Function != "" && r.Function != r.What {
		text += "  " + terminal.Shown(r.Function, x.full)
	}
	if r.File != "" && r.Line > 0 {
		text += fmt.Sprintf(" (%s:%d)", filepath.Base(r.File), r.Line)
	}
	fmt.Fprintf(w, "%.6f s\t%s\t%s\t  %s\n", float64(r.AtNS)/1e9, amount, events, terminal.Plain(text, ""))
	for _, name := range r.Stack {
		fmt.Fprintf(w, "\t\t\t      %s\n", terminal.Plain(terminal.Shown(name, x.full), ""))
	}
}
