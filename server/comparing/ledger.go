package comparing

import (
	"context"
	"fmt"
	"math"
	"net/http"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"entelon/core/ledger"
	"entelon/core/match"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scales"
	"entelon/core/statistics"
	"entelon/core/yardstick"
	"entelon/server/api"
	"entelon/server/request"
	"entelon/server/viewing"
	"entelon/store"
	"entelon/store/database"
)

// LedgerRoutes answers for a program over its builds.
type LedgerRoutes struct{ *request.Server }

// maxLedgerRows bounds the functions of a ledger.
const maxLedgerRows = 500

// Ledger answers GET /programs/{name}/ledger.
func (s LedgerRoutes) Ledger(c *gin.Context) {
	ctx := c.Request.Context()
	program := c.Param("name")
	by, err := s.ledgerBy(c, program)
	if err != nil {
		s.Fail(c, err)
		return
	}
	pins, err := s.Store.Pins(ctx, program)
	if err != nil {
		s.Fail(c, err)
		return
	}
	notes, err := s.Store.OpenNotes(ctx, program)
	if err != nil {
		s.Fail(c, err)
		return
	}
	out := api.LedgerOut{Program: program, Scale: string(by.scale), Scales: by.scales, Words: by.scale.Words(), Measure: by.measure.Name, Label: by.measure.Label, Counted: by.measure.Counted, Plain: by.measure.Unit, Unit: by.scale.Unit(by.measure.Unit),
		Exact:    len(by.takes) > 0 && !slices.ContainsFunc(by.takes, func(t store.LedgerTake) bool { return t.Facts.Exact == nil }),
		Measures: by.measures, Without: by.without, Workload: by.workload, Builds: []api.LedgerBuild{}, Rows: []api.LedgerRow{}, Notes: []api.LedgerNote{}, Shifts: []api.LedgerShift{}}
	for _, n := range notes {
		first, _, _ := strings.Cut(strings.TrimSpace(n.Text), "\n")
		out.Notes = append(out.Notes, api.LedgerNote{ID: n.ID, Function: n.Function, Short: profile.Short(n.Function), Key: n.Key, Build: n.Build, Text: first, Who: n.Who, At: n.UpdatedAt.UTC().Format(time.RFC3339)})
	}
	if by.scale == scales.ByShare && by.chained != nil && by.chained.err != nil {
		out.NoYardstick = by.chained.err.Error()
	}
	index := ledgerColumns(&out, by)
	var names []string
	for _, p := range pins {
		names = append(names, p.Function)
	}
	figures, err := s.Store.LedgerFigures(ctx, by.takes, by.divisors, names)
	if err != nil {
		s.Fail(c, err)
		return
	}
	ledgerRows(&out, figures, index, names)
	c.JSON(http.StatusOK, out)
}

// ledgerBy is by what the takes of a program stand beside each other.
type ledgerBy struct {
	measure  measure.Column
	measures []api.LedgerMeasure // that takes of the program have
	without  int64               // takes that do not have the measure
	workload api.LedgerWorkloads
	scale    scales.Scale
	scales   []api.ScaleOut // that all takes allow
	takes    []store.LedgerTake
	divisors []float64 // of each take's figures
	chained  *chained
}

// chained are takes on one scale by what stayed the same from build to build.
type chained struct {
	divisors []float64
	shared   []float64 // variance of each build's factor to the one before, by its place
	err      error     // why there is none
}

// workloadOf reads a request's workload, or finds the one with the most takes that can be
// held against each other.
func (s LedgerRoutes) workloadOf(c *gin.Context, program string) (out api.LedgerWorkloads, err error) {
	list, all, err := s.Store.Workloads(c.Request.Context(), program)
	if err != nil {
		return out, err
	}
	out = api.LedgerWorkloads{Workloads: []api.WorkloadOut{}, Count: all}
	if len(list) > 0 {
		out.ID = list[0].ID
	}
	if text := c.Query("workload"); text != "" {
		if out.ID, err = strconv.ParseInt(text, 10, 64); err != nil || out.ID <= 0 {
			return out, request.Bad(fmt.Errorf("the workload: %q is not the number of one", text))
		}
		if !slices.ContainsFunc(list, func(w store.WorkloadSummary) bool { return w.ID == out.ID }) {
			return out, database.NotFound{What: "workload"}
		}
	}
	for _, w := range list {
		out.Workloads = append(out.Workloads, viewing.WorkloadOut(w))
		if w.ID != out.ID {
			out.Others += w.Takes
		}
	}
	return out, nil
}

// measuresOf returns the measures that takes of a workload have. Where a measure is wanted
// that they do not have, and nobody chose the workload, it is the first that has it.
func (s LedgerRoutes) measuresOf(c *gin.Context, program, wanted string, in *api.LedgerWorkloads) ([]store.LedgerMeasure, error) {
	ctx := c.Request.Context()
	known, err := s.Store.LedgerMeasures(ctx, program, in.ID)
	has := func(m store.LedgerMeasure) bool { return m.Name == wanted }
	if err != nil || wanted == "" || c.Query("workload") != "" || slices.ContainsFunc(known, has) {
		return known, err
	}
	for _, w := range in.Workloads[:min(len(in.Workloads), maxSearched)] {
		of, err := s.Store.LedgerMeasures(ctx, program, w.ID)
		if err != nil {
			return nil, err
		}
		if slices.ContainsFunc(of, has) {
			for _, x := range in.Workloads {
				if x.ID == in.ID {
					in.Others += x.Takes - w.Takes
				}
			}
			in.ID = w.ID
			return of, nil
		}
	}
	return known, nil
}

// maxSearched bounds the workloads in which a measure is looked for.
const maxSearched = 30

// ledgerBy reads a request's workload, measure and scale, or finds those that suit the
// program's takes. Takes without any cost are left out.
func (s LedgerRoutes) ledgerBy(c *gin.Context, program string) (*ledgerBy, error) {
	ctx := c.Request.Context()
	in, err := s.workloadOf(c, program)
	if err != nil {
		return nil, err
	}
	wanted := c.Query("measure")
	known, err := s.measuresOf(c, program, wanted, &in)
	if err != nil {
		return nil, err
	}
	out := &ledgerBy{measures: []api.LedgerMeasure{}, workload: in}
	of, all := store.LedgerMeasure{Name: measure.CPU, Unit: measure.Nanoseconds}, int64(0)
	if len(known) > 0 {
		of = known[0]
	}
	found := wanted == ""
	for _, m := range known {
		out.measures = append(out.measures, api.LedgerMeasure{Name: m.Name, Label: columnOf(m).Label, Takes: m.Takes})
		all += m.First
		if m.Name == wanted && !found {
			of, found = m, true
		}
	}
	if !found {
		return nil, request.Bad(fmt.Errorf("no take of %s in this workload has the measure %q", program, wanted))
	}
	out.measure, out.without = columnOf(of), all-of.Takes
	if out.takes, err = s.Store.LedgerTakes(ctx, program, in.ID, of); err != nil {
		return nil, err
	}
	out.takes = slices.DeleteFunc(out.takes, func(t store.LedgerTake) bool { return t.Total <= 0 })
	out.scale = scales.ByShare
	if settings := settingsOf(out.takes); len(settings) > 0 {
		out.scale = scales.FittingIn(out.measure, make([]string, len(settings)), settings...) // all are of one workload
		out.measure.Counted = !slices.ContainsFunc(out.takes, func(t store.LedgerTake) bool { return !t.Counted })
	}
	text := c.Query("scale")
	if text != "" {
		if out.scale, err = scales.Parse(text); err != nil {
			return nil, request.Bad(err)
		}
	}
	if out.scale == scales.ByYardstick || out.scale == scales.ByShare {
		if out.chained, err = s.chain(ctx, out); err != nil {
			return nil, err
		}
		switch why := out.chained.err; {
		case why == nil || out.scale == scales.ByShare:
		case text != "":
			return nil, request.Bad(why)
		default:
			out.scale = scales.ByShare
		}
	}
	out.scales = out.allowed()
	for i := range out.takes {
		if out.scale == scales.ByYardstick {
			out.divisors = out.chained.divisors
			break
		}
		d, err := out.divisor(&out.takes[i], out.scale)
		if err != nil {
			return nil, request.Bad(err)
		}
		out.divisors = append(out.divisors, d)
	}
	return out, nil
}

// columnOf is how a measure of a ledger is spoken of.
func columnOf(m store.LedgerMeasure) measure.Column {
	combine := measure.Sum
	if m.Level {
		combine = measure.Level
	}
	return measure.Kept(m.Name, m.Unit, combine)
}

func settingsOf(takes []store.LedgerTake) []*profile.Take {
	var out []*profile.Take
	for i := range takes {
		out = append(out, &profile.Take{Settings: takes[i].Settings, Facts: takes[i].Facts})
	}
	return out
}

// allowed are the scales by which all takes can be counted.
func (b *ledgerBy) allowed() []api.ScaleOut {
	out := []api.ScaleOut{}
	for _, x := range scales.All {
		if x.Scale == scales.ByYardstick {
			if b.chained != nil && b.chained.err == nil {
				out = append(out, api.ScaleOut{Name: string(x.Scale), Text: x.Text})
			}
			continue
		}
		all := true
		for i := range b.takes {
			_, err := b.divisor(&b.takes[i], x.Scale)
			all = all && err == nil
		}
		if all {
			out = append(out, api.ScaleOut{Name: string(x.Scale), Text: x.Text})
		}
	}
	return out
}

// divisor is what a take's figures are divided by.
func (b *ledgerBy) divisor(t *store.LedgerTake, scale scales.Scale) (float64, error) {
	x := scales.Extent{Total: float64(t.Total), Level: b.measure.Combine == measure.Level, DurationNS: t.DurationNS, CPUNS: t.CPUNS, Work: t.Facts.Work}
	d, err := x.Divisor(scale)
	if err != nil {
		return 0, fmt.Errorf("a take of build %s cannot be counted %s: %w", t.Build.Name, scale.Words(), err)
	}
	return d, nil
}

// chain finds what stayed the same from build to build.
func (s LedgerRoutes) chain(ctx context.Context, by *ledgerBy) (*chained, error) {
	list, functions, err := s.Store.SelfFigures(ctx, by.takes)
	if err != nil {
		return nil, err
	}
	of := make([]yardstick.TakeFigures, len(by.takes))
	for i := range of {
		of[i] = yardstick.TakeFigures{Cost: make([]float64, functions), Samples: make([]float64, functions), Whole: float64(by.takes[i].Total)}
	}
	for _, f := range list {
		of[f.Take].Cost[f.Function], of[f.Take].Samples[f.Function] = float64(f.Self), float64(f.Samples)
	}
	var builds [][]yardstick.TakeFigures
	var at [][]int // positions of the takes of each build
	index := map[int64]int{}
	for i := range by.takes {
		k, ok := index[by.takes[i].BuildID]
		if !ok {
			k = len(builds)
			index[by.takes[i].BuildID] = k
			builds, at = append(builds, nil), append(at, nil)
		}
		builds[k], at[k] = append(builds[k], of[i]), append(at[k], i)
	}
	out := &chained{divisors: make([]float64, len(by.takes))}
	divisors, shared, err := yardstick.Chain(builds, by.measure.Counted)
	if out.shared, out.err = shared, err; err != nil {
		return out, nil
	}
	for k, list := range at {
		for j, i := range list {
			out.divisors[i] = divisors[k][j]
		}
	}
	return out, nil
}

// ledgerColumns makes the builds and returns their positions.
func ledgerColumns(o *api.LedgerOut, by *ledgerBy) map[int64]int {
	index := map[int64]int{}
	var groups []statistics.Group
	for i := range by.takes {
		t := &by.takes[i]
		k, ok := index[t.BuildID]
		if !ok {
			k = len(o.Builds)
			index[t.BuildID] = k
			o.Builds = append(o.Builds, api.LedgerBuild{Name: t.Build.Name})
			groups = append(groups, statistics.Group{})
		}
		b := &o.Builds[k]
		b.Takes = append(b.Takes, t.Key)
		b.Lost += t.Lost
		b.LastAt = t.StartedAt.UTC().Format("2006-01-02T15:04:05Z")
		if t.Note != "" {
			b.Note = t.Note
		}
		v := float64(t.Total) / by.divisors[i]
		if by.scale == scales.ByShare {
			v = float64(t.Total)
		}
		if x := t.Facts.Exact; x != nil {
			groups[k].AddExact(v, match.ExactVaries(x, by.measure.Name, "", t.Total)/by.divisors[i], t.StartedAt)
		} else {
			groups[k].Add(v, t.Measured, t.StartedAt)
		}
	}
	if by.scale == scales.ByYardstick {
		for k := range groups {
			groups[k].Shared = by.chained.shared[k]
		}
	}
	steady := by.steady(len(groups), index)
	for k, v := range ledger.Judge(groups, by.scale, by.measure.Counted) {
		b := &o.Builds[k]
		b.Steady = steady[k]
		b.Mean, b.Low, b.High, b.Mark = v.Mean, v.Low, v.High, string(v.Mark)
		if v.Sound >= 0 && v.Sound < k-1 {
			b.Since, b.SinceChange, b.SinceLow, b.SinceHigh = o.Builds[v.Sound].Name, v.Since.Ratio, v.Since.RatioLow, v.Since.RatioHigh
		}
		b.Verdict, b.Change, b.ChangeLo, b.ChangeHi = string(v.Change.Verdict), v.Change.Ratio, v.Change.RatioLow, v.Change.RatioHigh
	}
	if by.scale != scales.ByShare {
		for _, x := range ledger.Shifts(groups, by.measure.Counted) {
			v := o.Builds[x.At].Verdict
			o.Shifts = append(o.Shifts, api.LedgerShift{Build: o.Builds[x.At].Name, Change: x.Change.Ratio, Low: x.Change.RatioLow, High: x.Change.RatioHigh, P: x.P,
				Unmarked: v != string(statistics.Slower) && v != string(statistics.Faster)})
		}
	}
	return index
}

// steady is by how much the share of a function that did not change is another one in each
// build than in the one before, where shares are shown: it is 0 where that is not known, or
// where figures of what did not change stay as they are.
func (b *ledgerBy) steady(builds int, index map[int64]int) []float64 {
	out := make([]float64, builds)
	if b.scale != scales.ByShare || b.chained == nil || b.chained.err != nil {
		return out
	}
	cost, count := make([]float64, builds), make([]float64, builds) // of a unit of unchanged work
	for i := range b.takes {
		k := index[b.takes[i].BuildID]
		cost[k] += float64(b.takes[i].Total) / b.chained.divisors[i]
		count[k]++
	}
	for k := 1; k < builds; k++ {
		out[k] = cost[k-1] / count[k-1] / (cost[k] / count[k])
	}
	return out
}

// ledgerRows makes the functions: pinned ones first, then what changed most from one
// build to the next.
func ledgerRows(o *api.LedgerOut, figures []store.LedgerFigure, index map[int64]int, pins []string) {
	at := map[int64]int{}
	for _, f := range figures {
		k, ok := at[f.FunctionID]
		if !ok {
			k = len(o.Rows)
			at[f.FunctionID] = k
			o.Rows = append(o.Rows, api.LedgerRow{Name: f.Name, Short: profile.Short(f.Name), Pinned: slices.Contains(pins, f.Name), Self: make([]float64, len(o.Builds)), Total: make([]float64, len(o.Builds))})
		}
		o.Rows[k].Self[index[f.BuildID]], o.Rows[k].Total[index[f.BuildID]] = f.Self, f.Total
	}
	change := func(r *api.LedgerRow) float64 {
		most := 0.0
		for i := 1; i < len(r.Self); i++ {
			most = math.Max(most, math.Abs(r.Self[i]-r.Self[i-1]))
		}
		return most
	}
	sort.SliceStable(o.Rows, func(i, j int) bool {
		a, b := &o.Rows[i], &o.Rows[j]
		if a.Pinned != b.Pinned {
			return a.Pinned
		}
		if x, y := change(a), change(b); x != y {
			return x > y
		}
		return a.Name < b.Name
	})
	if len(o.Rows) > maxLedgerRows {
		o.Hidden = len(o.Rows) - maxLedgerRows
		o.Rows = o.Rows[:maxLedgerRows]
	}
}
