// Package comparing answers for two sides of takes and for the builds of a program. A comparison is
// kept in memory by server/keep and shared by those who ask for the same one.
package comparing

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"sync"

	"github.com/gin-gonic/gin"
	"golang.org/x/sync/errgroup"

	"entelon/core/compare"
	"entelon/core/match"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/reading"
	"entelon/core/scales"
	"entelon/core/scope"
	"entelon/core/statistics"
	"entelon/core/workload"
	"entelon/server/api"
	"entelon/server/keep"
	"entelon/server/request"
	"entelon/server/viewing"
	"entelon/store"
)

// CompareRoutes answers for two sides compared.
type CompareRoutes struct{ *request.Server }

// maxRows is how many functions a comparison tells at most of those that are
// less than minShown of the whole, and did not change by more than chance.
// maxTold is how many it tells at most that did.
const (
	maxRows  = 1500
	maxTold  = 4000
	minShown = 0.005
)

// maxYardstick bounds the functions of a yardstick that are told.
const maxYardstick = 200

// maxCompared bounds the takes of a side.
const maxCompared = 40

// compareSide is a side of a comparison while it is asked about.
type compareSide struct {
	rows  []*store.Take
	views []*request.Opened
	runs  []match.Run
}

// openSide opens the takes of a side, named by their keys with commas. It may run beside
// another one of the same request, whose query it therefore does not read.
func (s CompareRoutes) openSide(c *gin.Context, what, named string) (*compareSide, error) {
	keys := strings.Split(named, ",")
	if len(keys) > maxCompared {
		return nil, request.Bad(fmt.Errorf("%s: there are %d takes; give %d at most", what, len(keys), maxCompared))
	}
	out := &compareSide{}
	out.rows, out.views = make([]*store.Take, len(keys)), make([]*request.Opened, len(keys))
	var all errgroup.Group
	all.SetLimit(2) // a large take needs much memory while it is read
	for i, key := range keys {
		all.Go(func() (err error) {
			if out.views[i], out.rows[i], err = s.Open(c, key); err != nil {
				return fmt.Errorf("%s: %w", what, err)
			}
			return nil
		})
	}
	return out, all.Wait()
}

// compared is a comparison with all that was asked for it.
type compared struct {
	a, b     *compareSide
	words    measure.Column
	scope    string
	result   *compare.Result
	suspects func() []compare.Suspect
	without  *compare.Result // the takes that are far off; nil where none is
	farOff   []string        // their keys
}

// comparison reads a request's sides, scope, measure and scale and compares, or
// finds what was compared a moment ago.
func (s CompareRoutes) comparison(c *gin.Context) (*compared, error) {
	scale, err := scales.Parse(c.Query("scale"))
	if err != nil {
		return nil, request.Bad(err)
	}
	sc, err := request.ScopeOf(c)
	if err != nil {
		return nil, err
	}
	hand, version, err := viewing.MatchRoutes{Server: s.Server}.Hand(c, c.Query("candidate"))
	if err != nil {
		return nil, err
	}
	key := strings.Join([]string{c.Query("baseline"), c.Query("candidate"), c.Query("scale"), c.Query("measure"), sc.String(), version}, "\x00")
	if strings.Contains(c.Query("baseline")+c.Query("candidate"), request.JobPrefix) {
		return s.compareNow(c, scale, sc, hand) // it grows
	}
	own, asked := c.Copy(), c.Request // the work may outlive this request
	x, err := s.Keep.Get(c.Request.Context(), request.KeyCompare+key, comparisonBytes, func(ctx context.Context, self *keep.Item) (any, int64, error) {
		// It outlives the request that asked first, and holds on to its takes.
		own.Request = asked.Clone(ctx)
		mine := &request.Held{}
		own.Set(request.HeldKey, mine)
		out, err := s.compareNow(own, scale, sc, hand)
		if err != nil {
			mine.Release()
			return nil, 0, err
		}
		for _, take := range mine.Items {
			self.Needs(take)
		}
		return out, out.bytes(), nil
	})
	if err != nil {
		return nil, err
	}
	request.Holding(c).Add(x)
	return x.Value().(*compared), nil
}

// comparisonBytes is how much memory a comparison is thought to need beside its
// takes, before it is made.
const comparisonBytes = 64 << 20

// bytes estimates what a comparison holds beside its takes: a node of the merged
// tree for each of both sides, and what is told of each function.
func (x *compared) bytes() int64 {
	nodes, functions := 0, 0
	for _, side := range []*compareSide{x.a, x.b} {
		most := 0
		for _, o := range side.views {
			most = max(most, o.Tree.Len())
			functions = max(functions, len(o.Take.Profile.Functions))
		}
		nodes += most
	}
	return int64(nodes)*64 + int64(functions)*1000
}

func (s CompareRoutes) compareNow(c *gin.Context, scale scales.Scale, sc scope.Scope, hand match.Hand) (*compared, error) {
	out := &compared{scope: sc.String()}
	var both errgroup.Group
	baseline, candidate := c.Query("baseline"), c.Query("candidate")
	both.Go(func() (err error) { out.a, err = s.openSide(c, "baseline", baseline); return err })
	both.Go(func() (err error) { out.b, err = s.openSide(c, "candidate", candidate); return err })
	if err := both.Wait(); err != nil {
		return nil, err
	}
	var takes []*profile.Take
	var in []string // the workload of each
	for _, side := range []*compareSide{out.a, out.b} {
		for i, o := range side.views {
			m, err := request.MeasureOf(c, o.Take.Profile)
			if err != nil {
				return nil, err
			}
			w := o.Take.Profile.Words(m)
			if out.words.Name == "" {
				out.words = w
			} else if w.Name != out.words.Name || w.Unit != out.words.Unit {
				return nil, request.Bad(fmt.Errorf("%s and %s are two measures", out.words.Label, w.Label))
			}
			if err := sc.Fits(o.Take.Profile); err != nil {
				return nil, request.Bad(err)
			}
			row := side.rows[i]
			k := o.Cost(m, sc.Of(request.AboutOf(row)))
			side.runs = append(side.runs, match.Run{
				ID: row.Key, Name: "the take of " + row.StartedAt.UTC().Format("15:04:05"), Tree: o.Tree, Cost: k.Cost, Functions: k.Rows(), DurationNS: row.DurationNS, CPUNS: o.Take.Facts.CPUNS, Work: o.Take.Facts.Work, Lost: o.Take.Missing(m),
				Calls: compare.CallsOf(o.Tree, k.Scope), StartedAt: o.Take.Machine.StartedAt, Workload: request.AboutOf(row).Workload, Conditions: compare.ConditionsOf(o.Take), Pairs: compare.PairsOf(o.Take), Varies: match.VariesOf(o.Take, out.words.Name),
			})
			takes, in = append(takes, o.Take), append(in, workloadOf(row, o.Take))
		}
	}
	chosen := c.Query("scale") != ""
	if !chosen {
		scale = scales.FittingIn(out.words, in, takes...)
	}
	var err error
	if out.result, err = compare.Compare(out.a.runs, out.b.runs, compare.Options{Scale: scale, OrShares: !chosen, Exact: out.words.Counted, Hand: hand}); err != nil {
		return nil, request.Bad(err)
	}
	out.without, out.farOff = out.result.WithoutFarOff(compare.Options{Exact: out.words.Counted, Hand: hand})
	out.suspects = sync.OnceValue(out.result.Suspects)
	return out, nil
}

// sides are what both are called.
func (x *compared) sides() reading.Sides {
	out := reading.Sides{Baseline: x.a.called(x.b), Candidate: x.b.called(x.a), Measure: x.words.Label}
	if out.Baseline == out.Candidate {
		out.Baseline, out.Candidate = "the baseline", "the candidate"
	}
	return out
}

// called is what a side is called beside the other.
func (x *compareSide) called(other *compareSide) string {
	t, o := x.rows[0], other.rows[0]
	switch {
	case t.Program.Name != o.Program.Name:
		return t.Program.Name + " " + t.Build.Name
	case t.Build.Name == o.Build.Name && len(x.rows) == 1:
		return "the take of " + t.StartedAt.UTC().Format("15:04:05")
	}
	return t.Build.Name
}

func (x *compareSide) out(name string) api.CompareSide {
	side := api.CompareSide{Name: name, Takes: []api.CompareTake{}}
	for i, row := range x.rows {
		r := &x.runs[i]
		side.Takes = append(side.Takes, api.CompareTake{Take: viewing.TakeOut(row), Total: r.Total(), Samples: r.Samples()})
		side.Total += float64(r.Total()) / float64(len(x.rows))
	}
	return side
}

func estimateOut(e statistics.Estimate) api.EstimateOut {
	return api.EstimateOut{Baseline: e.Baseline, Candidate: e.Candidate, Difference: e.Difference, Low: e.Low, High: e.High, Ratio: e.Ratio, RatioLow: e.RatioLow, RatioHigh: e.RatioHigh, Seen: e.Seen, Need: e.Need, Verdict: string(e.Verdict)}
}

// Compare answers GET /compare.
func (s CompareRoutes) Compare(c *gin.Context) {
	x, err := s.comparison(c)
	if err != nil {
		s.Fail(c, err)
		return
	}
	r, sides := x.result, x.sides()
	first := x.b.views[0].Take.Profile
	out := api.CompareOut{
		Warnings: []profile.Warning{}, Measures: []api.MeasureOut{}, Scales: []api.ScaleOut{}, Reading: []api.SaidOut{}, Suspects: []api.SuspectOut{}, Rows: []api.CompareRow{},
		Measure: api.MeasureOut{Name: x.words.Name, Label: x.words.Label, Unit: x.words.Unit, Counted: x.words.Counted, Total: x.b.runs[0].Total()},
		Scale:   string(r.Scale), Unit: r.Scale.Unit(x.words.Unit), Single: r.Single, CallsCounted: r.CallsCounted, Steady: r.Steady, Baseline: x.a.out(sides.Baseline), Candidate: x.b.out(sides.Candidate), Whole: estimateOut(r.Whole),
	}
	for _, m := range r.Remarks {
		out.Warnings = append(out.Warnings, profile.Warning{Code: m.Code, Text: m.Text, Remedy: m.Remedy})
	}
	for i := range first.Measures {
		w := first.Words(i)
		if !w.Beside && x.all(func(o *request.Opened) bool {
			m, err := o.Take.Profile.MeasureNamed(w.Name)
			return err == nil && o.Take.Profile.Words(m).Unit == w.Unit
		}) {
			out.Measures = append(out.Measures, api.MeasureOut{Name: w.Name, Label: w.Label, Unit: w.Unit, Counted: w.Counted, Total: first.Total(i)})
		}
	}
	for _, sc := range scales.All {
		if sc.Scale != scales.ByWork || x.all(func(o *request.Opened) bool { return o.Take.Facts.Work > 0 }) {
			out.Scales = append(out.Scales, api.ScaleOut{Name: string(sc.Scale), Text: sc.Text})
		}
	}
	named := map[int32]bool{} // on the way to a suspect, or of the yardstick
	if y := r.Yardstick; y != nil {
		shown := y.Functions[:min(len(y.Functions), maxYardstick)]
		out.Yardstick = &api.YardstickOut{Functions: shown, Count: len(y.Functions), Share: y.Share[:], Factor: y.Factor, Low: y.Low, High: y.High}
		for _, f := range shown {
			named[f] = true
		}
	}
	if x.without != nil {
		out.Without = &api.WithoutOut{Takes: x.farOff, Whole: estimateOut(x.without.Whole)}
	}
	suspects := x.suspects()
	for _, p := range reading.Comparison(r, suspects, sides) {
		out.Reading = append(out.Reading, api.SaidOut(p))
	}
	for _, q := range suspects {
		x := api.SuspectOut{Path: append([]int32{}, q.Path...), Why: string(q.Why), Share: q.Share, Via: q.Via, Places: q.Places, Enters: q.Enters, Estimate: estimateOut(q.Estimate), ByCalls: q.Split[0], ByEach: q.Split[1], Counts: []api.CallsOut{}}
		for _, n := range q.Counts {
			x.Counts = append(x.Counts, api.CallsOut{Function: n.Function, Itself: n.Itself, Baseline: n.Calls[0], Candidate: n.Calls[1]})
		}
		out.Suspects = append(out.Suspects, x)
	}
	for _, q := range suspects {
		for _, f := range append(q.Path, q.Via) {
			named[f] = true
		}
	}
	whole := max(r.Whole.Baseline, r.Whole.Candidate)
	for i := range r.Rows {
		row := &r.Rows[i]
		if i >= maxRows && (!row.Certain || i >= maxTold) && !named[row.Number] && max(row.Total.Baseline, row.Total.Candidate) < minShown*whole {
			out.Hidden++
			continue
		}
		o := api.CompareRow{
			Number: row.Number, Name: row.Name, Short: profile.Short(row.Name), Module: row.Module, Area: row.Area, Kind: row.Kind.String(), Self: estimateOut(row.Self), Total: estimateOut(row.Total), SelfSamples: row.SelfSamples[:], TotalSamples: row.TotalSamples[:], State: string(row.State), Certain: row.Certain, Was: "", Because: "", ByHand: false, Calls: []float64{},
		}
		if r.CallsCounted {
			o.Calls = row.Calls[:]
		}
		if row.Match != nil {
			o.Was, o.Because, o.ByHand = row.Match.Baseline, row.Match.Reason, row.Match.ByHand
		}
		out.Rows = append(out.Rows, o)
	}
	c.JSON(http.StatusOK, out)
}

func (x *compared) all(is func(*request.Opened) bool) bool {
	for _, side := range []*compareSide{x.a, x.b} {
		for _, o := range side.views {
			if !is(o) {
				return false
			}
		}
	}
	return true
}

// Mirror answers GET /compare/mirror.
func (s CompareRoutes) Mirror(c *gin.Context) {
	pixels, err := request.Number(c, "pixels", viewing.DefaultPixels, 16, 1<<16)
	if err != nil {
		s.Fail(c, err)
		return
	}
	x, err := s.comparison(c)
	if err != nil {
		s.Fail(c, err)
		return
	}
	m := x.result.Mirror(float64(viewing.Thinnest) / float64(pixels))
	c.JSON(http.StatusOK, api.MirrorOut{Width: m.Width, Depth: m.Depth, Function: m.Function, X: m.X, Slot: m.Slot, Baseline: m.Total[0], Candidate: m.Total[1], Parent: m.Parent, Left: m.Left})
}

// workloadOf is which workload a take counts in, as a key.
func workloadOf(row *store.Take, t *profile.Take) string {
	if n := row.InWorkload(); n != 0 {
		return fmt.Sprint(n)
	}
	return workload.Of(&t.Settings, &t.Facts).Key
}
