package reading

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"entelon/cmd/entelon/option"
	"entelon/cmd/entelon/terminal"
	"entelon/core/events"
	"entelon/core/lanes"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scope"
)

// LanesJSON is what `entelon lanes --json` prints.
type LanesJSON struct {
	Scope      string     `json:"scope"`
	DurationNS int64      `json:"duration_ns"`
	FromNS     int64      `json:"from_ns"` // of what is told, since the take began
	ToNS       int64      `json:"to_ns"`
	Measured   bool       `json:"measured"`          // waits were, so that it is known when a thread ran
	Thinned    int64      `json:"thinned,omitempty"` // short waits and system calls that came too fast to be kept
	Lost       int64      `json:"lost,omitempty"`    // others for which there was no room
	Lanes      []LaneJSON `json:"lanes"`
}

// LaneJSON is a thread in LanesJSON.
type LaneJSON struct {
	Process string `json:"process"`
	PID     uint32 `json:"pid"`
	Thread  string `json:"thread"`
	TID     uint32 `json:"tid"`
	Words   string `json:"-"`

	Goroutine bool             `json:"goroutine,omitempty"` // TID is the number of one
	FromNS    int64            `json:"from_ns"`             // when it was there, since the take began
	ToNS      int64            `json:"to_ns"`
	Spent     map[string]int64 `json:"spent"` // nanoseconds by state; together they are as long as it was there
	Waits     []LaneWaitJSON   `json:"waits"` // the longest
}

// LaneWaitJSON is a wait in LaneJSON.
type LaneWaitJSON struct {
	State     string `json:"state"`
	AtNS      int64  `json:"at_ns"`
	NS        int64  `json:"ns"`
	Function  string `json:"function,omitempty"` // where in the program's own code
	File      string `json:"file,omitempty"`
	Line      uint32 `json:"line,omitempty"`
	By        string `json:"by,omitempty"`     // the thread that ended it
	ByTID     uint32 `json:"by_tid,omitempty"` //
	ByWords   string `json:"-"`
	ByPID     uint32 `json:"by_pid,omitempty"`    //
	Where     string `json:"where,omitempty"`     // the function in which that thread did
	Interrupt bool   `json:"interrupt,omitempty"` // an interrupt ended it
}

// Lanes is `entelon lanes`.
func Lanes() *cobra.Command {
	var scopeText, pathOf string
	var from, to time.Duration
	var limit int
	var full, asJSON bool
	c := &cobra.Command{
		Use:   "lanes FILE",
		Short: "Tell what each thread did over time: ran, was ready, waited, and for whom",
		Long: `Adds up for each thread how long it ran, was ready to, and waited for what, over a
take or a stretch of it; the columns of a row are together as long as the thread was
there. Below each thread are its longest waits, with where it waited and who ended
that: another thread, or an interrupt such as a timer's.

With --path it tells what one thread's progress depended on in that time: where it
ran, it itself; where it waited, what the thread that ended the wait did meanwhile,
and so on down to whoever ran, or was woken by an interrupt. The rows add up to the
stretch of time.

The take must have measured waiting (--measure waiting).`,
		Example: `  entelon lanes engraved.take
  entelon lanes engraved.take --from 3.2s --to 5.9s --limit 10
  entelon lanes engraved.take --path draw --from 3.2s --to 3.4s
  entelon lanes engraved.take --scope 'thread is worker-*' --json`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if limit < 0 {
				return fmt.Errorf("--limit %d: give how many waits to list for each thread", limit)
			}
			t, sc, err := option.ReadInScope(args[0], scopeText)
			if err != nil {
				return err
			}
			x := lanes.New(t)
			if len(x.Lanes) == 0 {
				return fmt.Errorf("%s: %w", args[0], errNoLanes)
			}
			if to == 0 {
				to = time.Duration(x.Duration)
			}
			if from < 0 || to <= from {
				return fmt.Errorf("--to %s is not after --from %s", to, from)
			}
			l := &laning{t: t, sc: sc, x: x, from: from.Nanoseconds(), to: to.Nanoseconds(), limit: limit, full: full}
			if pathOf != "" {
				out, err := l.pathOf(pathOf)
				if err != nil {
					return err
				}
				if asJSON {
					return terminal.PrintJSON(cmd.OutOrStdout(), out)
				}
				return l.printPath(cmd.OutOrStdout(), out)
			}
			if asJSON {
				return terminal.PrintJSON(cmd.OutOrStdout(), l.json())
			}
			return l.print(cmd.OutOrStdout())
		},
	}
	c.Flags().StringVar(&scopeText, "scope", "", "only threads with something that this `EXPRESSION` holds, such as: thread is worker-*")
	c.Flags().DurationVar(&from, "from", 0, "begin at this `TIME` of the take, such as 3.2s")
	c.Flags().DurationVar(&to, "to", 0, "end at this `TIME` of the take (default its end)")
	c.Flags().IntVar(&limit, "limit", 3, "how many of the longest waits of each thread, 0 for none")
	c.Flags().StringVar(&pathOf, "path", "", "the critical path of this `THREAD`, by name or number")
	c.Flags().BoolVar(&full, "full", false, "print names in full, with packages, parameters and template arguments")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return option.TakeFile(c)
}

var errNoLanes = errors.New("nothing in it has a time and a thread; take a running program with --measure waiting")

// laning is what is told of a take.
type laning struct {
	t        *profile.Take
	sc       scope.Scope
	x        *lanes.Index
	from, to int64
	limit    int
	full     bool
}

func (l *laning) json() LanesJSON {
	out := LanesJSON{Scope: l.sc.String(), DurationNS: l.x.Duration, FromNS: l.from, ToNS: l.to, Measured: l.x.Measured, Lanes: []LaneJSON{}}
	for _, k := range l.t.Facts.Counted {
		out.Thinned, out.Lost = out.Thinned+k.Thinned, out.Lost+k.Unwritten
	}
	for _, i := range l.x.InScope(l.sc) {
		if lane, there := l.lane(i); there {
			out.Lanes = append(out.Lanes, lane)
		}
	}
	return out
}

// lane tells of a thread; there is unset where it was not there in the stretch of time.
func (l *laning) lane(i int) (out LaneJSON, there bool) {
	p, lane := l.t.Profile, &l.x.Lanes[i]
	th := p.Threads[lane.Thread]
	pr := p.Processes[th.Process]
	out = LaneJSON{
		Process: p.Strings[pr.Name], PID: pr.PID, Thread: p.Strings[th.Name], TID: th.TID, Words: p.ThreadWords(lane.Thread), Goroutine: th.Goroutine,
		FromNS: max(lane.From, l.from), ToNS: min(lane.To, l.to), Spent: map[string]int64{}, Waits: []LaneWaitJSON{},
	}
	if out.ToNS <= out.FromNS {
		return out, false
	}
	for s, ns := range l.x.Spent(i, l.from, l.to) {
		if ns > 0 {
			out.Spent[lanes.State(s).String()] = ns
		}
	}
	for _, r := range l.x.Longest(i, l.from, l.to, l.limit) {
		out.Waits = append(out.Waits, l.wait(r))
	}
	return out, true
}

func (l *laning) wait(r lanes.Run) LaneWaitJSON {
	p := l.t.Profile
	out := LaneWaitJSON{State: r.State.String(), AtNS: r.From, NS: r.To - r.From}
	if at, ok := events.Place(p, p.Intervals.Stack[r.Interval]); ok {
		fr := p.Frames[at]
		out.Function, out.File, out.Line = p.FunctionName(fr.Function), p.Strings[p.Functions[fr.Function].File], fr.Line
	}
	by, stack, ok := l.x.EndedBy(r.Interval)
	switch {
	case !ok:
	case by == profile.NoThread:
		out.Interrupt = true
	default:
		th := p.Threads[by]
		out.By, out.ByTID, out.ByPID, out.ByWords = p.Strings[th.Name], th.TID, p.Processes[th.Process].PID, p.ThreadWords(by)
		if at, ok := events.Place(p, stack); ok {
			out.Where = p.FunctionName(p.Frames[at].Function)
		}
	}
	return out
}

func (l *laning) print(w io.Writer) error {
	out := l.json()
	w = terminal.PlainWriter{To: w}
	fmt.Fprintf(w, "%s %s   from %.3f s to %.3f s\n", l.t.Settings.Program, l.t.Settings.Build, float64(out.FromNS)/1e9, float64(out.ToNS)/1e9)
	if !out.Measured {
		fmt.Fprintln(w, "waiting was not measured, so it is not known when a thread ran: take again with --measure waiting")
	}
	if out.Thinned > 0 {
		fmt.Fprintf(w, "%s waits and calls shorter than 1 ms came too fast to be kept and count as what was around them.\n", measure.Amount(out.Thinned, measure.Count))
	}
	if out.Lost > 0 {
		fmt.Fprintf(w, "%s more are missing: there was no room for them.\n", measure.Amount(out.Lost, measure.Count))
	}
	if len(out.Lanes) == 0 {
		_, err := fmt.Fprintln(w, "no thread has anything in this scope and time")
		return err
	}
	var used []lanes.State
	for s := range lanes.States {
		if slices.ContainsFunc(out.Lanes, func(x LaneJSON) bool { return x.Spent[s.String()] > 0 }) && s != lanes.NotThere {
			used = append(used, s)
		}
	}
	tw := tabwriter.NewWriter(w, 0, 0, 2, ' ', tabwriter.AlignRight)
	fmt.Fprint(tw, "there\t")
	for _, s := range used {
		fmt.Fprint(tw, s.String()+"\t")
	}
	fmt.Fprintln(tw, "  thread")
	for _, x := range out.Lanes {
		fmt.Fprintf(tw, "%s\t", measure.Amount(x.ToNS-x.FromNS, measure.Nanoseconds))
		for _, s := range used {
			if d := x.Spent[s.String()]; d > 0 {
				fmt.Fprint(tw, measure.Amount(d, measure.Nanoseconds))
			}
			fmt.Fprint(tw, "\t")
		}
		fmt.Fprintf(tw, "  %s\n", terminal.Plain(fmt.Sprintf("%s of %s %d", x.Words, x.Process, x.PID), ""))
	}
	if err := tw.Flush(); err != nil {
		return err
	}
	for _, x := range out.Lanes {
		if len(x.Waits) > 0 {
			fmt.Fprintf(w, "\n%s\n", terminal.Plain(fmt.Sprintf("longest waits of %s", x.Words), ""))
		}
		for _, r := range x.Waits {
			fmt.Fprintf(w, "  %.6f s  %9s  %s\n", float64(r.AtNS)/1e9, measure.Amount(r.NS, measure.Nanoseconds), terminal.Plain(l.words(r), ""))
		}
	}
	return nil
}

// words tells what a wait was for, where, and who ended it.
func (l *laning) words(r LaneWaitJSON) string {
	out := r.State
	if r.Function != "" {
		out += " in " + terminal.Shown(r.Function, l.full)
	}
	if r.Line > 0 {
		out += fmt.Sprintf(", line %d", r.Line)
	}
	switch {
	case r.Interrupt:
		return out + "; ended by an interrupt"
	case r.ByWords == "":
		return out
	}
	out += "; ended by " + r.ByWords
	if r.Where != "" {
		out += " in " + terminal.Shown(r.Where, l.full)
	}
	return out
}
