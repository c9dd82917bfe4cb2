package reading

import (
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"entelon/cmd/entelon/option"
	"entelon/cmd/entelon/terminal"
	"entelon/core/lanes"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scope"
	"entelon/core/spans"
)

// SpansJSON is what `entelon spans --json` prints.
type SpansJSON struct {
	Scope   string         `json:"scope"`
	Thinned int64          `json:"thinned,omitempty"` // short calls that came too fast to be kept one by one
	Lost    int64          `json:"lost,omitempty"`    // others for which there was no room
	Names   []SpanNameJSON `json:"names"`
}

// SpanNameJSON is all spans of one name. Times are nanoseconds.
type SpanNameJSON struct {
	Name        string           `json:"name"`
	Spans       int              `json:"spans"`
	Open        int              `json:"open,omitempty"` // of them, those that went on when the take ended
	Total       int64            `json:"total_ns"`
	Percentiles map[string]int64 `json:"percentiles"` // "50": median
	Histogram   []SpanBucketJSON `json:"histogram,omitempty"`
	Slowest     []SpanJSON       `json:"slowest,omitempty"`
	Blame       *SpanBlameJSON   `json:"blame,omitempty"`
	Contrast    *ContrastJSON    `json:"contrast,omitempty"`
}

// SpanBucketJSON is how many spans took so long: from_ns or more, and less than to_ns.
type SpanBucketJSON struct {
	FromNS int64 `json:"from_ns"`
	ToNS   int64 `json:"to_ns"`
	Spans  int   `json:"spans"`
}

// SpanJSON is one span.
type SpanJSON struct {
	LaneThreadJSON
	AtNS int64 `json:"at_ns"`
	NS   int64 `json:"ns"`
	Open bool  `json:"open,omitempty"`
}

// SpanBlameJSON is what the slowest spans were slow for: their critical paths, added up.
type SpanBlameJSON struct {
	Spans   int             `json:"spans"`
	TotalNS int64           `json:"total_ns"` // which the rows add up to
	Rows    []LaneBlameJSON `json:"rows"`
}

// ContrastJSON is what the slowest spans do that the others do not. Times are nanoseconds a span.
type ContrastJSON struct {
	Slow     int               `json:"slow"`   // spans
	Others   int               `json:"others"` // that they were compared with
	SlowNS   float64           `json:"slow_ns"`
	OthersNS float64           `json:"others_ns"`
	Rows     []ContrastRowJSON `json:"rows"` // their differences add up to that of the means
}

// ContrastRowJSON is one thing that spans do, or wait for.
type ContrastRowJSON struct {
	Who         string   `json:"who,omitempty"` // that held them up; "": they themselves
	State       string   `json:"state"`
	Function    string   `json:"function,omitempty"`
	Line        uint32   `json:"line,omitempty"`
	SlowNS      float64  `json:"slow_ns"`
	OthersNS    float64  `json:"others_ns"`
	LowNS       *float64 `json:"low_ns,omitempty"` // of the difference, 95 %
	HighNS      *float64 `json:"high_ns,omitempty"`
	Significant bool     `json:"significant"`
}

var errNoSpans = errors.New("no spans in it; take with --measure span:FUNCTION")

// Spans is `entelon spans`.
func Spans() *cobra.Command {
	var scopeText, name, blame, slow string
	var limit int
	var percentiles, full, asJSON bool
	c := &cobra.Command{
		Use:   "spans FILE",
		Short: "Tell how long each span took, which were slow, and what they were slow for",
		Long: `Lists the spans of a take by name: how many there were, how long they took together,
and how long the middle one, the slowest tenth, the slowest hundredth and the slowest one took.

With --name it tells of one name: its slowest spans, and with --percentiles all its
durations. With --blame it adds up the critical paths of the slowest part of its spans: what
they ran themselves, what they waited for, and who held that up doing what. The rows add up
to the time of these spans. With --slow it tells what the slowest part does that the others do
not: each span is one repetition, and the differences add up to that of the means.

Spans are calls of functions that the take followed (--measure span:FUNCTION). What they
waited for is known where waiting was measured, too, and of a Go program goroutines.`,
		Example: `  entelon spans engraved.take
  entelon spans engraved.take --name page.Draw --percentiles
  entelon spans engraved.take --name page.Draw --blame 1%
  entelon spans engraved.take --name page.Draw --slow 1%
  entelon spans engraved.take --scope 'time from 2 s to 4 s' --json`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if limit < 0 {
				return fmt.Errorf("--limit %d: give how many of the slowest spans to list", limit)
			}
			share, err := shareOf("--blame", blame)
			if err != nil {
				return err
			}
			slowest, err := shareOf("--slow", slow)
			if err != nil {
				return err
			}
			if name == "" && (percentiles || blame != "" || slow != "") {
				return errors.New("give the --name of the spans that this is to be told of")
			}
			t, sc, err := option.ReadInScope(args[0], scopeText)
			if err != nil {
				return err
			}
			s := &spanning{t: t, sc: sc, x: spansIn(t.Profile, sc), limit: limit, full: full, percentiles: percentiles, blame: share, slow: slowest}
			if len(s.x.Names) == 0 {
				return fmt.Errorf("%s: %w", args[0], errNoSpans)
			}
			out, err := s.json(name)
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			if asJSON {
				return terminal.PrintJSON(cmd.OutOrStdout(), out)
			}
			return s.print(terminal.PlainWriter{To: cmd.OutOrStdout()}, out, name != "")
		},
	}
	c.Flags().StringVar(&scopeText, "scope", "", "only spans that this `EXPRESSION` holds, such as: time from 2 s to 4 s")
	c.Flags().StringVar(&name, "name", "", "tell of spans of this `NAME` alone")
	c.Flags().BoolVar(&percentiles, "percentiles", false, "print percentiles and the histogram of durations")
	c.Flags().StringVar(&blame, "blame", "", "what the slowest `SHARE` of the spans, such as 1%, was slow for")
	c.Flags().StringVar(&slow, "slow", "", "what the slowest `SHARE` of the spans, such as 1%, does that the others do not")
	c.Flags().IntVar(&limit, "limit", 5, "how many of the slowest spans to list, 0 for none")
	c.Flags().BoolVar(&full, "full", false, "print names in full, with packages, parameters and template arguments")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return option.TakeFile(c)
}

// shareOf reads a share such as 1%; 0 where none is given.
func shareOf(flag, text string) (float64, error) {
	if text == "" {
		return 0, nil
	}
	v, err := strconv.ParseFloat(strings.TrimSpace(strings.TrimSuffix(text, "%")), 64)
	if err != nil || !(v > 0 && v <= 100) {
		return 0, fmt.Errorf("%s %s: give a share above 0%% and up to 100%%, such as 1%%", flag, text)
	}
	return v / 100, nil
}

// spansIn are the spans of a profile that a scope holds.
func spansIn(p *profile.Profile, sc scope.Scope) *spans.Index {
	x := spans.New(p)
	if sc.All() {
		return x
	}
	return x.In(sc.Select(p.OfIntervals()))
}

// spanning is what is told of spans.
type spanning struct {
	t           *profile.Take
	sc          scope.Scope
	x           *spans.Index
	limit       int
	full        bool
	percentiles bool
	blame, slow float64
}

// shownPercentiles are those of every name; more are told where they are asked for.
var shownPercentiles = []struct {
	key   string
	share float64
	more  bool
}{{"0", 0, true}, {"1", 0.01, true}, {"10", 0.1, true}, {"25", 0.25, true}, {"50", 0.5, false}, {"75", 0.75, true}, {"90", 0.9, false}, {"95", 0.95, true}, {"99", 0.99, false}, {"99.9", 0.999, true}, {"100", 1, false}}

func (s *spanning) json(name string) (SpansJSON, error) {
	out := SpansJSON{Scope: s.sc.String(), Names: []SpanNameJSON{}}
	out.Thinned, out.Lost = spans.Missing(&s.t.Facts)
	var known []string
	for i := range s.x.Names {
		n := &s.x.Names[i]
		known = append(known, n.Name)
		if name != "" && n != s.x.Find(name) {
			continue
		}
		row := SpanNameJSON{Name: n.Name, Spans: len(n.Spans), Open: n.Open, Total: n.Total, Percentiles: map[string]int64{}}
		for _, p := range shownPercentiles {
			if !p.more || s.percentiles {
				row.Percentiles[p.key] = n.Percentile(p.share)
			}
		}
		if name != "" {
			if err := s.more(n, &row); err != nil {
				return out, err
			}
		}
		out.Names = append(out.Names, row)
	}
	if len(out.Names) == 0 {
		return out, fmt.Errorf("no span is named %q; there are %s", name, strings.Join(known[:min(len(known), 20)], ", "))
	}
	return out, nil
}

// more tells what is asked of one name.
func (s *spanning) more(n *spans.Name, row *SpanNameJSON) error {
	p := s.t.Profile
	if s.percentiles {
		for _, b := range n.Histogram() {
			row.Histogram = append(row.Histogram, SpanBucketJSON{b.From, b.To, b.Count})
		}
	}
	slowest := n.Slowest(1)
	for _, x := range slowest[:min(len(slowest), s.limit)] {
		row.Slowest = append(row.Slowest, SpanJSON{LaneThreadJSON: threadJSON(p, x.Thread), AtNS: x.From, NS: x.Duration(), Open: x.Open})
	}
	if s.blame == 0 && s.slow == 0 {
		return nil
	}
	x := lanes.New(s.t)
	if s.slow > 0 {
		if err := s.contrast(n, x, row); err != nil {
			return err
		}
	}
	if s.blame == 0 {
		return nil
	}
	b, err := spans.BlameOf(p, x, n.Name, n.Slowest(s.blame))
	if err != nil {
		return err
	}
	row.Blame = &SpanBlameJSON{Spans: b.Spans, TotalNS: b.Total, Rows: []LaneBlameJSON{}}
	for _, r := range b.Rows {
		row.Blame.Rows = append(row.Blame.Rows, blameJSON(p, x, r))
	}
	return nil
}

// contrast tells what the slowest spans do that the others do not.
func (s *spanning) contrast(n *spans.Name, x *lanes.Index, row *SpanNameJSON) error {
	slow, others := n.Parted(s.slow, 0)
	if len(others) == 0 {
		return errors.New("--slow: there are no others to compare the slow ones with")
	}
	p := s.t.Profile
	c, err := spans.ContrastOf(p, x, slow, others)
	if err != nil {
		return err
	}
	row.Contrast = &ContrastJSON{Slow: c.Slow, Others: c.Others, SlowNS: c.SlowMean, OthersNS: c.OthersMean, Rows: []ContrastRowJSON{}}
	for i := range c.Rows {
		r := &c.Rows[i]
		out := ContrastRowJSON{Who: r.Who, State: r.State.String(), Line: r.Line, SlowNS: r.Slow, OthersNS: r.Others, Significant: r.Significant}
		if r.Function != 0 {
			out.Function = p.FunctionName(r.Function)
		}
		if !math.IsInf(r.Low, 0) {
			out.LowNS, out.HighNS = &r.Low, &r.High
		}
		row.Contrast.Rows = append(row.Contrast.Rows, out)
	}
	return nil
}

func (s *spanning) printContrast(w io.Writer, c *ContrastJSON) error {
	ns := func(v float64) string { return measure.Amount(int64(math.Round(v)), measure.Nanoseconds) }
	fmt.Fprintf(w, "\nwhat the slowest %d do that %d others do not: %s a span instead of %s\n", c.Slow, c.Others, ns(c.SlowNS), ns(c.OthersNS))
	if c.Slow < 2 {
		fmt.Fprintln(w, "with a single slow span, chance cannot be ruled out")
	}
	tw := tabwriter.NewWriter(w, 0, 0, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintln(tw, "more\tslow\tothers\t\t")
	const most = 15
	for _, r := range c.Rows[:min(len(c.Rows), most)] {
		text := "itself " + stateWords(r.State)
		if r.Who != "" {
			text = r.Who + " " + stateWords(r.State)
		}
		if r.Function != "" {
			text += " in " + terminal.Shown(r.Function, s.full)
		}
		if r.Line > 0 {
			text += fmt.Sprintf(", line %d", r.Line)
		}
		if !r.Significant {
			text += " (may be chance)"
		}
		sign := "+"
		if r.SlowNS < r.OthersNS {
			sign = "-"
		}
		fmt.Fprintf(tw, "%s%s\t%s\t%s\t\t  %s\n", sign, ns(math.Abs(r.SlowNS-r.OthersNS)), ns(r.SlowNS), ns(r.OthersNS), terminal.Plain(text, ""))
	}
	return tw.Flush()
}

func (s *spanning) print(w io.Writer, out SpansJSON, one bool) error {
	ns := func(v int64) string { return measure.Amount(v, measure.Nanoseconds) }
	tw := tabwriter.NewWriter(w, 0, 0, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintln(tw, "spans\ttogether\tmedian\t90 %\t99 %\tslowest\t  name")
	for _, n := range out.Names {
		p := n.Percentiles
		fmt.Fprintf(tw, "%s\t%s\t%s\t%s\t%s\t%s\t  %s\n", measure.Amount(int64(n.Spans), measure.Count), ns(n.Total), ns(p["50"]), ns(p["90"]), ns(p["99"]), ns(p["100"]), terminal.Plain(terminal.Shown(n.Name, s.full), ""))
	}
	if err := tw.Flush(); err != nil {
		return err
	}
	if out.Thinned > 0 {
		fmt.Fprintf(w, "%s calls shorter than 1 ms came too fast to be kept one by one and are missing here.\n", measure.Amount(out.Thinned, measure.Count))
	}
	if out.Lost > 0 {
		fmt.Fprintf(w, "%s more are missing: there was no room for them.\n", measure.Amount(out.Lost, measure.Count))
	}
	if !one {
		return nil
	}
	n := out.Names[0]
	if n.Open > 0 {
		fmt.Fprintf(w, "%d of them have no end in the take, and are in no figure.\n", n.Open)
	}
	if s.percentiles {
		s.printDurations(w, n)
	}
	if len(n.Slowest) > 0 {
		fmt.Fprintln(w, "\nslowest")
	}
	for _, x := range n.Slowest {
		fmt.Fprintf(w, "  %.6f s  %9s  %s\n", float64(x.AtNS)/1e9, ns(x.NS), terminal.Plain(x.words, ""))
	}
	if n.Contrast != nil {
		if err := s.printContrast(w, n.Contrast); err != nil {
			return err
		}
	}
	if b := n.Blame; b != nil {
		text := "the slowest span was"
		if b.Spans != 1 {
			text = fmt.Sprintf("the slowest %d spans were", b.Spans)
		}
		fmt.Fprintf(w, "\nwhat %s slow for: %s\n", text, ns(b.TotalNS))
		return printBlame(w, b.Rows, b.TotalNS, s.full)
	}
	return nil
}

// printDurations prints percentiles, and the histogram as bars.
func (s *spanning) printDurations(w io.Writer, n SpanNameJSON) {
	fmt.Fprintln(w)
	for _, p := range shownPercentiles {
		fmt.Fprintf(w, "  %5s %%  %9s\n", p.key, measure.Amount(n.Percentiles[p.key], measure.Nanoseconds))
	}
	fmt.Fprintln(w)
	const width = 50
	most := slices.MaxFunc(n.Histogram, func(a, b SpanBucketJSON) int { return a.Spans - b.Spans }).Spans
	for _, b := range n.Histogram {
		bar := strings.Repeat("#", (b.Spans*width+most-1)/most)
		fmt.Fprintf(w, "  from %9s  %8d  %s\n", measure.Amount(b.FromNS, measure.Nanoseconds), b.Spans, bar)
	}
}
