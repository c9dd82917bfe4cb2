package reading

import (
	"fmt"
	"io"
	"sort"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"entelon/cmd/entelon/option"
	"entelon/cmd/entelon/symbols"
	"entelon/cmd/entelon/terminal"
	"entelon/core/calltree"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/reading"
	"entelon/core/samplingcost"
	"entelon/core/scope"
	"entelon/core/workload"
)

// FactsJSON is what `entelon facts --json` prints.
type FactsJSON struct {
	Exact         *profile.Exact    `json:"exact,omitempty"` // of an exact run
	Program       string            `json:"program"`
	Build         string            `json:"build"`
	BuildID       string            `json:"build_id"`
	Revision      string            `json:"revision"`
	Command       []string          `json:"command"`
	Masked        int               `json:"masked"` // arguments and variables that looked like secrets
	Workload      string            `json:"workload"`
	Dir           string            `json:"dir"`
	Note          string            `json:"note"`
	StartedAt     time.Time         `json:"started_at"`
	DurationNS    int64             `json:"duration_ns"`
	CPUNS         int64             `json:"cpu_ns"`
	RateHz        int               `json:"rate_hz"`
	Event         string            `json:"event"`
	ByProcessors  bool              `json:"by_processors"` // the processors' clocks: no thread is too short to be seen
	Measures      []measureOut      `json:"measures"`
	Unwind        string            `json:"unwind"`
	Samples       int64             `json:"samples"`
	Lost          int64             `json:"lost"`
	CompleteShare float64           `json:"complete_share"`
	CutOff        []profile.Cut     `json:"cut_off"`
	StackBytes    int               `json:"stack_bytes"`
	Interpreted   int64             `json:"interpreted_stacks"`
	Torn          int64             `json:"torn_stacks"`
	Labelled      int64             `json:"labelled"`
	Unlabelled    int64             `json:"labels_unread"`
	RuntimeSet    string            `json:"runtime_set"`
	CollectorNS   int64             `json:"collector_cpu_ns"`
	OwnNS         int64             `json:"own_cpu_ns"` // of cpu_ns, what counting took
	ExitCode      *int              `json:"exit_code"`
	EndedBy       string            `json:"ended_by"`
	Whole         bool              `json:"whole"`
	Processes     []processOut      `json:"processes"`
	Threads       []threadOut       `json:"threads"`
	Goroutines    int               `json:"goroutines,omitempty"` // that were followed
	Modules       []moduleOut       `json:"modules"`
	Machine       profile.Machine   `json:"machine"`
	Warnings      []profile.Warning `json:"warnings"`
	Counters      []profile.Counter `json:"counters"`
	NotCounted    []string          `json:"not_counted"`
	Usage         *profile.Usage    `json:"usage"`
	Bare          *profile.Bare     `json:"bare"`
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
	Singly  int64  `json:"singly,omitempty"` // events with a sample of their own
	Lost    int64  `json:"lost,omitempty"`   // events that are missing in the total
	// Intervals are events that are kept with their beginning and their end; Thinned and Unwritten
	// are those that came too fast for that, and for which there was no room.
	Intervals int64 `json:"intervals,omitempty"`
	Thinned   int64 `json:"thinned,omitempty"`
	Unwritten int64 `json:"unwritten,omitempty"`
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

// named lists who there is, by name, with the numbers of each name, or how many there are.
func named(n int, at func(int) (name string, number int64)) string {
	const maxNames, maxNumbers = 12, 4
	var names []string
	numbers := map[string][]int64{}
	for i := range n {
		name, number := at(i)
		if numbers[name] == nil {
			names = append(names, name)
		}
		numbers[name] = append(numbers[name], number)
	}
	sort.SliceStable(names, func(i, j int) bool { return len(numbers[names[i]]) > len(numbers[names[j]]) })
	var parts []string
	for i, name := range names {
		if i == maxNames {
			parts = append(parts, fmt.Sprintf("%d more names", len(names)-i))
			break
		}
		of := numbers[name]
		text := strings.Trim(fmt.Sprint(of), "[]")
		if len(of) > maxNumbers {
			text = fmt.Sprintf("%d of them", len(of))
		}
		parts = append(parts, fmt.Sprintf("%s (%s)", terminal.Plain(name, ""), text))
	}
	if len(parts) == 0 {
		return ""
	}
	return ": " + strings.Join(parts, ", ")
}

func factsOut(t *profile.Take) FactsJSON {
	p, f, s := t.Profile, t.Facts, t.Settings
	out := FactsJSON{
		Program: s.Program, Build: s.Build, BuildID: f.BuildID, Revision: f.Revision, Command: append([]string{}, s.Command...),
		Dir: s.Dir, Note: s.Note, StartedAt: t.Machine.StartedAt, DurationNS: f.DurationNS, CPUNS: f.CPUNS, RateHz: s.RateHz,
		Event: s.Event, ByProcessors: f.ByProcessors, Unwind: s.Unwind, Samples: f.Samples, Lost: f.Lost, CompleteShare: f.CompleteShare(), CutOff: append([]profile.Cut{}, f.CutOff...), StackBytes: s.StackBytes, Interpreted: f.Interpreted, Torn: f.Torn, Labelled: f.Labelled, Unlabelled: f.Unlabelled, RuntimeSet: f.RuntimeSet,
		CollectorNS: f.CollectorNS, OwnNS: f.OwnNS, ExitCode: f.ExitCode, EndedBy: f.EndedBy, Whole: t.Whole,
		Processes: []processOut{}, Threads: []threadOut{}, Modules: []moduleOut{}, Machine: t.Machine,
		Warnings: append([]profile.Warning{}, f.Warnings...),
		Counters: append([]profile.Counter{}, f.Counters...), NotCounted: append([]string{}, f.NotCounted...), Usage: f.Usage, Bare: f.Bare, Work: f.Work,
		Exact: f.Exact, Series: s.Series, Turn: s.Turn, Turns: s.Turns, Workload: workload.Of(&s, &f).Words, Masked: s.Masked,
	}
	counts := make([]int64, len(p.Threads))
	for _, id := range p.Samples.Thread {
		counts[id]++
	}
	ours := inIt(p, counts)
	processes := map[profile.ProcessID]bool{}
	for i, x := range p.Threads {
		if ours[i] {
			processes[x.Process] = true
		}
	}
	for i, x := range p.Processes {
		if processes[profile.ProcessID(i)] || len(processes) == 0 {
			out.Processes = append(out.Processes, processOut{x.PID, p.Strings[x.Name]})
		}
	}
	for i := range p.Measures {
		m := p.Words(i)
		if m.Beside {
			continue
		}
		how, _ := t.CountingOf(i)
		out.Measures = append(out.Measures, measureOut{m.Name, m.Label, m.Unit, m.Counted, p.Total(i), how.Singly, how.Lost, how.Intervals, how.Thinned, how.Unwritten})
	}
	for i, x := range p.Threads {
		if x.Goroutine {
			out.Goroutines++
			continue
		}
		if !ours[i] {
			continue
		}
		out.Threads = append(out.Threads, threadOut{p.Processes[x.Process].PID, x.TID, p.Strings[x.Name], counts[i]})
	}
	for _, m := range p.Modules[1:] {
		if m.Kind != profile.KindMark {
			out.Modules = append(out.Modules, moduleOut{p.Strings[m.Path], p.Strings[m.BuildID], m.Kind.String()})
		}
	}
	return out
}

// Facts is `entelon facts`.
func Facts() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "facts FILE",
		Short: "Show how a take was made, and what to know before trusting it",
		Example: `  entelon facts engraved.take
  entelon facts engraved.take --json`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			t, err := option.ReadTake(args[0])
			if err != nil {
				return err
			}
			out := factsOut(t)
			if asJSON {
				return terminal.PrintJSON(cmd.OutOrStdout(), out)
			}
			return printFacts(cmd.OutOrStdout(), args[0], t, out)
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return option.TakeFile(c)
}

// Several is a number with what there are so many of.
func Several(n int, one, more string) string {
	if n == 1 {
		return "1 " + one
	}
	return terminal.Thin(int64(n)) + " " + more
}

func printFacts(w io.Writer, path string, t *profile.Take, f FactsJSON) error {
	tw := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	row := func(k, format string, args ...any) { fmt.Fprintf(tw, "%s\t%s\n", k, fmt.Sprintf(format, args...)) }
	row("program", "%s", f.Program)
	row("build", "%s", f.Build)
	row("build ID", "%s", f.BuildID)
	row("command", "%s", strings.Join(f.Command, " "))
	if f.Masked > 0 {
		row("masked", "%d of its arguments and variables, which look like secrets; entelon take --keep-secrets keeps them", f.Masked)
	}
	row("workload", "%s", f.Workload)
	row("directory", "%s", f.Dir)
	if f.StartedAt.IsZero() {
		row("started", "not known")
	} else {
		row("started", "%s", f.StartedAt.Format(time.RFC3339))
	}
	row("duration", "%.2f s", float64(f.DurationNS)/1e9)
	if x := f.Exact; x != nil {
		if c := t.Settings.Caches; len(c) == 2 {
			row("models", "caches of %s and %s (bytes/ways/line), the least recently used line making room; branches by a counter of two bits for each of 4096 places", c[0], c[1])
		}
		runs := "run once, so that what varies by itself is not known"
		if x.Runs == 2 && x.Varying == 0 {
			runs = "run twice, the same to the last instruction"
		} else if x.Runs == 2 {
			runs = fmt.Sprintf("run twice; the counts of %s differed", Several(x.Varying, "function", "functions"))
		}
		if s := t.Settings; s.Inside != "" {
			part := "counted only inside " + s.Inside
			if s.After > 0 {
				part += fmt.Sprintf(", after %s of its calls", terminal.Thin(s.After))
			}
			if s.Calls > 0 {
				part += fmt.Sprintf(", for %s of them", terminal.Thin(s.Calls))
			}
			row("part", "%s", part)
		}
		row("exact run", "%s, %s", Several(x.Processes, "process", "processes"), runs)
	} else {
		row("CPU by the kernel", "%.2f s", float64(f.CPUNS)/1e9)
		row("rate", "%d a second (%s)", f.RateHz, t.Trigger())
	}
	for _, m := range f.Measures {
		row(m.Label, "%s%s", measure.Amount(m.Total, m.Unit), profile.Partial(m.Lost))
	}
	if f.Exact == nil {
		row("samples", "%s", terminal.Thin(f.Samples))
		row("lost", "%s", terminal.Thin(f.Lost))
		row("complete stacks", "%.2f %% (%s)", 100*f.CompleteShare, f.Unwind)
	}
	for _, c := range f.CutOff {
		row("cut off", "%s: %s", terminal.Thin(c.Stacks), c.Words())
	}
	if f.Interpreted > 0 {
		row("interpreted", "%s stacks have functions of an interpreter; %s more were hit while it changed them", terminal.Thin(f.Interpreted), terminal.Thin(f.Torn))
	}
	if f.Labelled+f.Unlabelled > 0 {
		unread := ""
		if f.Unlabelled > 0 {
			unread = fmt.Sprintf("; of %s more not all could be read", terminal.Thin(f.Unlabelled))
		}
		row("labels", "%s samples have labels that the program gave%s", terminal.Thin(f.Labelled), unread)
	}
	if f.RuntimeSet != "" {
		row("runtime", "%s", f.RuntimeSet)
	}
	if f.Exact == nil {
		row("collector", "%.2f s CPU", float64(f.CollectorNS)/1e9)
	}
	if f.OwnNS > 0 {
		row("counting", "%.2f s of the CPU time of the program's threads; it is not among the samples", float64(f.OwnNS)/1e9)
	}
	if f.Bare != nil {
		row("without sampling", "%s", samplingcost.Words(f.Bare))
	}
	if f.Work > 0 {
		row("work", "%g units, %s of CPU time each", f.Work, measure.Amount(int64(float64(f.CPUNS)/f.Work), "ns"))
	}
	for _, c := range f.Counters {
		row(c.Name, "%s", terminal.Thin(c.Value))
	}
	if len(f.NotCounted) > 0 {
		row("not counted here", "%s", strings.Join(f.NotCounted, ", "))
	}
	if f.Usage != nil {
		row("most memory", "%s", measure.Amount(f.Usage.MaxResident, "bytes"))
	}
	if t.Settings.Turns > 1 {
		row("series", "%s, take %d of %d", t.Settings.Series, t.Settings.Turn, t.Settings.Turns)
	}
	row("ended by", "%s", f.EndedBy)
	row("processes", "%d%s", len(f.Processes), named(len(f.Processes), func(i int) (string, int64) { return f.Processes[i].Name, int64(f.Processes[i].PID) }))
	row("threads", "%d%s", len(f.Threads), named(len(f.Threads), func(i int) (string, int64) { return f.Threads[i].Name, int64(f.Threads[i].TID) }))
	if f.Goroutines > 0 {
		row("goroutines", "%d", f.Goroutines)
	}
	row("machine", "%s, Linux %s, %d processors", f.Machine.Host, f.Machine.Kernel, f.Machine.Processors)
	if f.Note != "" {
		row("note", "%s", f.Note)
	}
	tr := calltree.New(t.Profile)
	cost := tr.Cost(0, scope.Scope{})
	var text strings.Builder
	for _, part := range reading.New(tr).Take(cost, calltree.Functions(tr, cost)) {
		text.WriteString(part.Text)
	}
	row("reading", "%s", text.String())
	for _, x := range f.Warnings {
		row("warning", "%s %s", x.Text, symbols.RemedyFor(x, path))
	}
	return tw.Flush()
}

// inIt tells of each thread whether it is in the take, and did not only end a wait of one that is.
func inIt(p *profile.Profile, samples []int64) []bool {
	out := make([]bool, len(p.Threads))
	for i, n := range samples {
		out[i] = n > 0
	}
	for _, id := range p.Intervals.Thread {
		out[id] = true
	}
	if p.Intervals.Len() == 0 {
		for i := range out {
			out[i] = true
		}
	}
	return out
}
