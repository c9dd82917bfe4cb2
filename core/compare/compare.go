// Package compare sets two groups of takes side by side: what each cost, how
// much that differs, how sure that is, and what explains it. A side is one take
// or several of the same.
//
// Runs are only read. A Result belongs to the goroutine that asked for it, and is not changed
// after it was made.
package compare

import (
	"errors"
	"fmt"
	"math"
	"sort"
	"time"

	"entelon/core/match"
	"entelon/core/profile"
	"entelon/core/scales"
	"entelon/core/statistics"
	"entelon/core/until"
	"entelon/core/yardstick"
)

// State is what became of a function.
type State string

// The states. A function is Changed where it is on both sides and the difference
// is significant; it is New or Gone where one side has no sample of it,
// which for a rare function may be chance.
const (
	Same    State = "same"
	Changed State = "changed"
	New     State = "new"
	Gone    State = "gone"
)

// Options choose how sides are compared.
type Options struct {
	Scale scales.Scale
	// OrShares: where there is no yardstick though the scale is ByYardstick, shares are
	// compared, and a remark says why.
	OrShares bool
	Exact    bool // the measure counts every event, so that there is no sampling noise
	// Worth is the change of the whole, as a share, that is worth knowing: where
	// it could have been missed, the verdict is that there are too few takes.
	// 0 is DefaultWorth.
	Worth float64
	// Rate is the share of wrong ones among the functions that are said to have
	// changed; 0 is DefaultRate.
	Rate float64
	// Hand are matches that somebody made or undid.
	Hand match.Hand
}

// DefaultRate is that of Options.
const DefaultRate = 0.05

// TakesEach is how many takes of each side are made where nothing else was said:
// enough to see a change of some percent on a quiet machine.
const TakesEach = 5

// worthOfFunction is the change of a function's cost that is worth knowing, as
// a share of the whole.
const worthOfFunction = 0.01

// Row is one function on both sides.
type Row struct {
	Name         string // on the side that has it, the candidate's first
	Module       string // path, likewise
	Area         string // package or module; decides the hue
	File         string
	Line         uint32
	Kind         profile.ModuleKind
	Interpreted  bool // its code is executed by a runtime's own
	Self         statistics.Estimate
	Total        statistics.Estimate
	SelfSamples  [2]int64 // of all takes of the baseline and the candidate
	TotalSamples [2]int64
	State        State
	Number       int32        // in the comparison
	Certain      bool         // one of its differences is significant
	Match        *match.Match // set where the sides have other names for it
	Calls        [2]float64   // mean of the takes, scaled, where Result.CallsCounted
}

// Result is a comparison.
type Result struct {
	Scale   scales.Scale
	Single  bool    // one take a side: how much takes differ is not known
	Certain bool    // of exact runs: figures differ by themselves only as runs of the same did
	Wider   float64 // how many times as wide intervals are as if the takes had been interleaved; 1 where they were
	Whole   statistics.Estimate
	Rows    []Row // the largest difference of self cost first
	Matches []match.Match
	Remarks []Remark
	// Yardstick is what the scale rests on, nil for all scales but ByYardstick.
	Yardstick *yardstick.Yardstick
	// Steady is by how much a figure of what did not change differs from side to side: the
	// share of it does where the rest grew or shrank. 1 where figures are no shares, or
	// where that is not known.
	Steady float64
	// CallsCounted: all takes counted all calls, so that rows have theirs.
	CallsCounted bool

	a, b    []match.Run
	by      [2][]float64 // what each run is divided by
	each    [2][]float64 // the whole of each run, scaled, without the effects of blocks
	align   *match.Alignment
	rowOf   []int32 // by the function's number
	worth   float64
	spreads statistics.Spreads
	counted []counted
	blocks  int // in how many the runs are; 0 for all in one
	blockOf [2][]int
}

// Compare compares two sides, function by function.
func Compare(baseline, candidate []match.Run, o Options) (*Result, error) {
	if len(baseline) == 0 || len(candidate) == 0 {
		return nil, errors.New("a side has no take")
	}
	if o.Worth == 0 {
		o.Worth = statistics.DefaultWorth
	}
	if o.Rate == 0 {
		o.Rate = DefaultRate
	}
	if o.Scale == "" {
		o.Scale = scales.ByShare
	}
	r := &Result{Scale: o.Scale, Single: len(baseline)+len(candidate) == 2, a: baseline, b: candidate, worth: o.Worth}
	blocked := r.block()
	r.align = match.Align([2][]match.Run{r.a, r.b}, o.Hand)
	r.Matches = r.align.Matches
	var refused error
	if o.Scale == scales.ByYardstick {
		y, err := yardstick.Find([2][]match.Run{r.a, r.b}, r.align, o.Exact)
		switch {
		case err == nil:
			r.Yardstick, r.by = y, y.By
		case o.OrShares:
			refused, o.Scale, r.Scale = err, scales.ByShare, scales.ByShare
		default:
			return nil, err
		}
	}
	for side, runs := range [][]match.Run{r.a, r.b} {
		for i := range runs {
			if r.Yardstick != nil {
				break
			}
			by, err := scales.Divisor(&runs[i], o.Scale)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", sideName(side, runs, i), err)
			}
			r.by[side] = append(r.by[side], by)
		}
	}
	if _, r.Certain = match.VariesBy(r.sides(), r.by, ""); r.Certain {
		r.Single = false
	}
	r.counted = countedIn(r)
	r.whole(o)
	r.Steady = steadyFor(r, o)
	r.functions(o)
	r.Remarks = append(remarks(r), blocked...)
	if refused != nil {
		r.Remarks = append(r.Remarks, Remark{"yardstick", 0, -1, fmt.Sprintf("The takes are neither runs of one workload nor do they say how much work they did, and %s. So shares of each total are compared, which cannot tell whether the whole got slower.", refused),
			"Take runs to their end, or give the units of work with --work or --work-from."})
	}
	return r, nil
}

func sideName(side int, runs []match.Run, i int) string {
	name := "baseline"
	if side == 1 {
		name = "candidate"
	}
	if len(runs) > 1 {
		name += fmt.Sprintf(", take %d", i+1)
	}
	return name
}

func (r *Result) whole(o Options) {
	var c [2]statistics.Quantity
	var at [2][]time.Time
	for side, runs := range [][]match.Run{r.a, r.b} {
		for i := range runs {
			at[side] = append(at[side], runs[i].StartedAt)
			c[side].Value = append(c[side].Value, float64(runs[i].Total())/r.by[side][i])
			c[side].Samples += float64(runs[i].Samples())
		}
		c[side].Scale = r.scaleOf(side)
	}
	unblock(r, &c[0], &c[1])
	r.each = [2][]float64{c[0].Value, c[1].Value}
	s := statistics.WholeSpread(&c[0], &c[1], o.Exact, o.Scale)
	r.Wider = statistics.Widening([2]*statistics.Quantity{&c[0], &c[1]}, at)
	s.Widen(r.Wider, &c[0], &c[1], o.Exact)
	s.Shared = sharedVariance(r)
	level := levelOf(r)
	if level < 1-statistics.Confidence {
		s.HalfWidth = statistics.Quantile(1-level/2, s.Freedom)
	}
	s.Within, s.Certain = match.VariesBy(r.sides(), r.by, "")
	r.Whole = statistics.Compare(&c[0], &c[1], s, o.Exact)
	switch {
	case o.Scale == scales.ByShare:
	case s.Certain:
		r.Whole.Judge(r.Whole.P == 0, o.Worth)
	case r.Single && o.Scale != scales.ByYardstick: // nothing is known of how much takes differ
		r.Whole.Verdict, r.Whole.Need = statistics.TooFew, r.Whole.Needs(o.Worth)
	default:
		r.Whole.Judge(r.Whole.P <= level, o.Worth)
	}
}

// levelOf is the rate of false alarms with which the whole is judged: less than that of one
// test where it was looked after each pair of takes whether to go on.
func levelOf(r *Result) float64 {
	most := 0
	for _, runs := range [][]match.Run{r.a, r.b} {
		for i := range runs {
			if most == 0 {
				most = runs[i].Pairs
			}
			if runs[i].Pairs == 0 || runs[i].Pairs != most {
				return 1 - statistics.Confidence
			}
		}
	}
	if n := min(len(r.a), len(r.b)); n >= until.MinLooks && n <= most {
		return until.LevelOf(n, most)
	}
	return 1 - statistics.Confidence
}

// scaleOf is by what a side's values are multiplied, on average over its takes.
func (r *Result) scaleOf(side int) float64 {
	sum := 0.0
	for _, by := range r.by[side] {
		sum += 1 / by
	}
	return sum / float64(len(r.by[side]))
}

// steadyFor is the ratio of the shares of what did not change.
func steadyFor(r *Result, o Options) float64 {
	if o.Scale != scales.ByShare {
		return 1
	}
	y, err := yardstick.Find([2][]match.Run{r.a, r.b}, r.align, o.Exact)
	if err != nil {
		return 1
	}
	var mean [2]float64
	for side, runs := range [][]match.Run{r.a, r.b} {
		for i := range runs {
			mean[side] += float64(runs[i].Total()) / float64(len(runs))
		}
	}
	return y.Factor * mean[0] / mean[1]
}

// sharedVariance is that of what all takes of a comparison were measured by.
func sharedVariance(r *Result) float64 {
	if r.Yardstick == nil {
		return 0
	}
	return r.Yardstick.Variance
}

// functions makes the rows.
func (r *Result) functions(o Options) {
	n := len(r.align.Names)
	type sums struct{ self, total [2]statistics.Quantity }
	list := make([]sums, n)
	r.Rows = make([]Row, n)
	for side, runs := range [][]match.Run{r.a, r.b} {
		for k := range list {
			list[k].self[side].Value, list[k].total[side].Value = make([]float64, len(runs)), make([]float64, len(runs))
			list[k].self[side].Scale, list[k].total[side].Scale = r.scaleOf(side), r.scaleOf(side)
		}
		for i := range runs {
			p, by := runs[i].Tree.Profile, r.by[side][i]
			ids := r.align.IDs[side][i]
			for _, f := range runs[i].Functions {
				k := ids[f.Function]
				x, row := &list[k], &r.Rows[k]
				x.self[side].Value[i] += float64(f.Self) / by
				x.total[side].Value[i] += float64(f.Total) / by
				x.self[side].Samples += float64(f.SelfSamples)
				x.total[side].Samples += float64(f.TotalSamples)
				row.SelfSamples[side] += f.SelfSamples
				row.TotalSamples[side] += f.TotalSamples
				fn := p.Functions[f.Function]
				row.Name, row.Module, row.Kind, row.Area = p.FunctionName(f.Function), p.ModulePath(f.Function), fn.Kind, p.Area(f.Function)
				row.Interpreted = p.Modules[fn.Module].Kind == profile.KindInterpreter
				if file := p.Strings[fn.File]; file != "" {
					row.File, row.Line = file, fn.Line
				}
			}
		}
	}
	var as, bs []*statistics.Quantity
	for k := range list {
		unblock(r, &list[k].self[0], &list[k].self[1])
		unblock(r, &list[k].total[0], &list[k].total[1])
		as, bs = append(as, &list[k].self[0], &list[k].total[0]), append(bs, &list[k].self[1], &list[k].total[1])
	}
	r.spreads = statistics.NewSpreads(as, bs, o.Exact, o.Scale)
	r.spreads.Wider, r.spreads.Known.Shared = r.Wider, sharedVariance(r)
	r.spreads.Known.Within, r.spreads.Known.Certain = match.VariesBy(r.sides(), r.by, "")
	p := make([]float64, 0, 2*n)
	for k := range list {
		x, row := &list[k], &r.Rows[k]
		self := r.spreads.Of(&x.self[0], &x.self[1])
		if self.Certain {
			self.Within, _ = match.VariesBy(r.sides(), r.by, row.Name)
		}
		row.Self = statistics.Compare(&x.self[0], &x.self[1], self, o.Exact)
		row.Total = statistics.Compare(&x.total[0], &x.total[1], r.spreads.Of(&x.total[0], &x.total[1]), o.Exact)
		row.Match = r.align.MatchOf[int32(k)]
		row.Number = int32(k)
		p = append(p, row.Self.P, row.Total.P)
	}
	if calls := callsOfFunctions(r); calls != nil {
		r.CallsCounted = true
		for k := range calls {
			r.Rows[k].Calls = calls[k]
		}
	}
	is := statistics.Significant(p, o.Rate)
	whole := math.Max(r.Whole.Baseline, r.Whole.Candidate)
	for k := range r.Rows {
		row := &r.Rows[k]
		for i, e := range []*statistics.Estimate{&row.Self, &row.Total} {
			base := e.Baseline
			if base == 0 {
				base = e.Candidate
			}
			worth := math.Inf(1)
			if base > 0 {
				worth = worthOfFunction * whole / base
			}
			e.Judge(is[2*k+i], worth)
		}
		row.Certain = is[2*k] || is[2*k+1]
		row.State = state(row)
	}
	sort.Slice(r.Rows, func(i, j int) bool {
		x, y := &r.Rows[i], &r.Rows[j]
		if dx, dy := math.Abs(x.Self.Difference), math.Abs(y.Self.Difference); dx != dy {
			return dx > dy
		}
		if x.Name != y.Name {
			return x.Name < y.Name
		}
		return x.Module < y.Module
	})
	r.rowOf = make([]int32, n)
	for i := range r.Rows {
		r.rowOf[r.Rows[i].Number] = int32(i)
	}
}

func state(r *Row) State {
	switch {
	case r.TotalSamples[0] == 0:
		return New
	case r.TotalSamples[1] == 0:
		return Gone
	case r.Certain:
		return Changed
	}
	return Same
}
