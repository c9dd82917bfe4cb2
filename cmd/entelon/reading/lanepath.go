package reading

import (
	"fmt"
	"io"
	"path"
	"strconv"
	"text/tabwriter"

	"entelon/cmd/entelon/terminal"
	"entelon/core/lanes"
	"entelon/core/measure"
	"entelon/core/profile"
)

// LaneThreadJSON is a thread, or a goroutine, in what else is printed.
type LaneThreadJSON struct {
	Thread    string `json:"thread"`
	TID       uint32 `json:"tid"`
	Goroutine bool   `json:"goroutine,omitempty"` // TID is the number of one
	words     string
}

// LanePathJSON is what `entelon lanes --path --json` prints.
type LanePathJSON struct {
	LaneThreadJSON
	FromNS int64           `json:"from_ns"`
	ToNS   int64           `json:"to_ns"`
	Steps  []LaneStepJSON  `json:"steps"` // one after the other, without a gap
	Blame  []LaneBlameJSON `json:"blame"` // the steps added up, the most first
}

// LaneStepJSON is a step of LanePathJSON.
type LaneStepJSON struct {
	LaneThreadJSON
	State  string `json:"state"`
	FromNS int64  `json:"from_ns"`
	ToNS   int64  `json:"to_ns"`
	Depth  int    `json:"depth"` // how many waits lie between; 0: the thread itself
}

// LaneBlameJSON is what steps of one thread in one state at one place are together.
type LaneBlameJSON struct {
	LaneThreadJSON
	State    string `json:"state"`
	Function string `json:"function,omitempty"`
	Line     uint32 `json:"line,omitempty"` // that with most of it
	NS       int64  `json:"ns"`
	Steps    int    `json:"steps"`
	Samples  int    `json:"samples,omitempty"` // of what ran, on which the function rests
}

// pathOf is the critical path of the thread that a text names.
func (l *laning) pathOf(name string) (out LanePathJSON, err error) {
	lane, err := l.named(name)
	if err != nil {
		return out, err
	}
	p := l.t.Profile
	who := func(i int) LaneThreadJSON { return threadJSON(p, l.x.Lanes[i].Thread) }
	out = LanePathJSON{FromNS: max(l.from, l.x.Lanes[lane].From), ToNS: min(l.to, l.x.Lanes[lane].To), Steps: []LaneStepJSON{}, Blame: []LaneBlameJSON{}}
	out.LaneThreadJSON = who(lane)
	steps, err := l.x.CriticalPath(lane, l.from, l.to)
	if err != nil {
		return out, err
	}
	for _, s := range steps {
		x := LaneStepJSON{State: s.State.String(), FromNS: s.From, ToNS: s.To, Depth: s.Depth}
		x.LaneThreadJSON = who(s.Lane)
		out.Steps = append(out.Steps, x)
	}
	for _, b := range l.x.BlameOf(steps) {
		out.Blame = append(out.Blame, blameJSON(p, l.x, b))
	}
	return out, nil
}

func threadJSON(p *profile.Profile, id profile.ThreadID) LaneThreadJSON {
	th := p.Threads[id]
	return LaneThreadJSON{p.Strings[th.Name], th.TID, th.Goroutine, p.ThreadWords(id)}
}

func blameJSON(p *profile.Profile, x *lanes.Index, b lanes.Blame) LaneBlameJSON {
	out := LaneBlameJSON{LaneThreadJSON: threadJSON(p, x.Lanes[b.Lane].Thread), State: b.State.String(), NS: b.NS, Steps: b.Steps, Samples: b.Samples}
	if b.Function != 0 {
		out.Function, out.Line = p.FunctionName(b.Function), b.Line
	}
	return out
}

// named finds the lane of a thread by its number or its name.
func (l *laning) named(name string) (lane int, err error) {
	p := l.t.Profile
	found := []int{}
	for i := range l.x.Lanes {
		th := p.Threads[l.x.Lanes[i].Thread]
		number := strconv.FormatUint(uint64(th.TID), 10)
		if th.Goroutine {
			number = "goroutine " + number
		}
		if number == name {
			return i, nil
		}
		if is, err := path.Match(name, p.Strings[th.Name]); err == nil && is {
			found = append(found, i)
		}
	}
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		return 0, fmt.Errorf("--path %s: no thread of the take has this name or number", name)
	}
	return 0, fmt.Errorf("--path %s: %d threads have this name; give a number, such as that of %s", name, len(found), p.ThreadWords(l.x.Lanes[found[0]].Thread))
}

func (l *laning) printPath(w io.Writer, out LanePathJSON) error {
	w = terminal.PlainWriter{To: w}
	whole := out.ToNS - out.FromNS
	fmt.Fprintf(w, "%s\n", terminal.Plain(fmt.Sprintf("critical path of %s, from %.6f s to %.6f s: %s", out.words, float64(out.FromNS)/1e9, float64(out.ToNS)/1e9, measure.Amount(whole, measure.Nanoseconds)), ""))
	if whole <= 0 {
		_, err := fmt.Fprintln(w, "the thread was not there")
		return err
	}
	return printBlame(w, out.Blame, whole, l.full)
}

// printBlame prints rows that add up to a whole.
func printBlame(w io.Writer, rows []LaneBlameJSON, whole int64, full bool) error {
	tw := tabwriter.NewWriter(w, 0, 0, 2, ' ', tabwriter.AlignRight)
	const most = 30
	rest := whole
	for _, b := range rows[:min(most, len(rows))] {
		text := fmt.Sprintf("%s: %s", b.words, stateWords(b.State))
		if b.Function != "" {
			text += " in " + terminal.Shown(b.Function, full)
		}
		if b.Line > 0 {
			text += fmt.Sprintf(", line %d", b.Line)
		}
		if b.Samples > 0 {
			text += fmt.Sprintf(", %d samples", b.Samples)
		}
		fmt.Fprintf(tw, "%.1f %%\t%s\t  %s\n", 100*float64(b.NS)/float64(whole), measure.Amount(b.NS, measure.Nanoseconds), terminal.Plain(text, ""))
		rest -= b.NS
	}
	if rest > 0 {
		fmt.Fprintf(tw, "%.1f %%\t%s\t  in %d more rows\n", 100*float64(rest)/float64(whole), measure.Amount(rest, measure.Nanoseconds), len(rows)-most)
	}
	return tw.Flush()
}

// stateWords is how a state is shown, by its name.
func stateWords(name string) string {
	for s := range lanes.States {
		if s.String() == name {
			return s.Words()
		}
	}
	return name
}
