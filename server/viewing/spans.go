package viewing

import (
	"cmp"
	"errors"
	"fmt"
	"math"
	"net/http"

	"github.com/gin-gonic/gin"

	"entelon/core/calltree"
	"entelon/core/lanes"
	"entelon/core/profile"
	"entelon/core/scope"
	"entelon/core/spans"
	"entelon/server/api"
	"entelon/server/request"
)

// Bounds of what is told of spans at once.
const (
	maxSpanNames = 500
	maxSpanDots  = 20_000
	maxSpanBins  = 2000
	blamePixels  = 2000 // how wide the drawing of what spans were slow for is at most
)

// shownSpanPercentiles are those that are told, in thousandths.
var shownSpanPercentiles = []int64{0, 10, 100, 250, 500, 750, 900, 950, 990, 999, 1000}

// SpanRoutes answer what the lens Spans asks.
type SpanRoutes struct{ LensRoutes }

// Spans answers GET /takes/{key}/spans.
func (s SpanRoutes) Spans(c *gin.Context) {
	o, x, ok := s.spans(c)
	if !ok {
		return
	}
	dots, err1 := request.Number(c, "dots", 4000, 0, maxSpanDots)
	bins, err2 := request.Number(c, "bins", 120, 1, maxSpanBins)
	begin, err3 := request.Number(c, "begin", 0, 0, 1<<60)
	end, err4 := request.Number(c, "end", max(1, o.Take.Facts.DurationNS), 1, 1<<60)
	if err := cmp.Or(err1, err2, err3, err4); err != nil {
		s.Fail(c, err)
		return
	}
	if end <= begin {
		s.Fail(c, request.Bad(fmt.Errorf("the end, %d, is not after the beginning, %d", end, begin)))
		return
	}
	p := o.Take.Profile
	out := api.SpansOut{
		DurationNS: o.Take.Facts.DurationNS, Known: x.Known, Names: []api.SpanNameOut{}, More: max(0, len(x.Names)-maxSpanNames),
		Percentiles: []int64{}, Buckets: []int64{}, Dots: []int64{}, Rate: []int{}, Threads: []api.SpanThreadOut{},
	}
	out.Thinned, out.Lost = spans.Missing(&o.Take.Facts)
	for i := range x.Names[:min(len(x.Names), maxSpanNames)] {
		n := &x.Names[i]
		out.Names = append(out.Names, api.SpanNameOut{
			Name: n.Name, Short: profile.Short(n.Name), Spans: len(n.Spans), Open: n.Open, TotalNS: n.Total,
			MedianNS: n.Percentile(0.5), P99NS: n.Percentile(0.99), SlowestNS: n.Percentile(1),
		})
	}
	n := chosenSpans(x, c.Query("name"))
	if n == nil {
		c.JSON(http.StatusOK, out)
		return
	}
	out.Name, out.All = n.Name, len(n.Spans)
	for _, of := range shownSpanPercentiles {
		out.Percentiles = append(out.Percentiles, of, n.Percentile(float64(of)/1000))
	}
	for _, b := range n.Histogram() {
		out.Buckets = append(out.Buckets, b.From, b.To, int64(b.Count))
	}
	threads := map[profile.ThreadID]bool{}
	for _, d := range n.Some(int(dots)) {
		open := int64(0)
		if d.Open {
			open = 1
		}
		out.Dots = append(out.Dots, d.From, d.Duration(), int64(d.Thread), open)
		if !threads[d.Thread] {
			threads[d.Thread] = true
			out.Threads = append(out.Threads, api.SpanThreadOut{ID: uint32(d.Thread), Words: p.ThreadWords(d.Thread)})
		}
	}
	out.Rate, out.RateFromNS, out.RateToNS = n.Rate(begin, end, int(bins)), begin, end
	c.JSON(http.StatusOK, out)
}

// chosenSpans are those of a name; of none, those that took longest together; nil where there are none.
func chosenSpans(x *spans.Index, name string) *spans.Name {
	if n := x.Find(name); n != nil || len(x.Names) == 0 {
		return n
	}
	return &x.Names[0]
}

// SpanBlame answers GET /takes/{key}/spans/blame.
func (s SpanRoutes) SpanBlame(c *gin.Context) {
	a, ok := s.asked(c, 1000)
	if !ok {
		return
	}
	p, laid := a.take.Profile, a.laid
	n := a.name.Of(func(d spans.Span) bool { return d.Duration() >= a.longer && d.Duration() < a.shorter })
	if len(n.Spans) == n.Open {
		s.Fail(c, request.Bad(errors.New("no span took so long")))
		return
	}
	b, err := spans.BlameOf(p, laid, n.Name, n.Slowest(a.slowest))
	if err != nil {
		s.Fail(c, request.Bad(err))
		return
	}
	named := &namedFunctions{p: p, at: map[profile.FunctionID]int{}}
	out := api.SpanBlameOut{Spans: b.Spans, TotalNS: b.Total, States: laneStates(), Blame: blameRows(p, laid, b.Rows, named)}
	out.Functions = append([]api.FunctionRef{}, named.list...)
	tree := calltree.New(b.Profile)
	cost := tree.Cost(0, scope.Scope{})
	out.Flame = flameOf(tree, cost, 0, tree.Layout(cost, calltree.LayoutOptions{MinWidth: max(1, b.Total/blamePixels), Rows: maxRowsDrawn, Boxes: maxBoxes}))
	c.JSON(http.StatusOK, out)
}

// SpanContrast answers GET /takes/{key}/spans/contrast.
func (s SpanRoutes) SpanContrast(c *gin.Context) {
	a, ok := s.asked(c, 999)
	if !ok {
		return
	}
	p, laid := a.take.Profile, a.laid
	slow, others := a.name.Parted(a.slowest, a.longer)
	if len(slow) == 0 || len(others) == 0 {
		s.Fail(c, request.Bad(errors.New("there are no slow spans and others to be compared")))
		return
	}
	got, err := spans.ContrastOf(p, laid, slow, others)
	if err != nil {
		s.Fail(c, request.Bad(err))
		return
	}
	named := &namedFunctions{p: p, at: map[profile.FunctionID]int{}}
	out := api.SpanContrastOut{Slow: got.Slow, Others: got.Others, All: got.All, SlowNS: got.SlowMean, OthersNS: got.OthersMean, States: laneStates(), Rows: []api.SpanContrastRow{}}
	for _, r := range got.Rows[:min(len(got.Rows), maxBlame)] {
		row := api.SpanContrastRow{Who: r.Who, State: int(r.State), Function: -1, Line: int(r.Line), SlowNS: r.Slow, OthersNS: r.Others, Significant: r.Significant}
		if !math.IsInf(r.Low, 0) {
			row.LowNS, row.HighNS = r.Low, r.High
		}
		if r.Function != 0 {
			row.Function = named.of(r.Function)
		}
		out.Rows = append(out.Rows, row)
	}
	out.Functions = append([]api.FunctionRef{}, named.list...)
	c.JSON(http.StatusOK, out)
}

// slowAsked is which slow spans are asked about, with the take laid out over time.
type slowAsked struct {
	take            *profile.Take
	laid            *lanes.Index
	name            *spans.Name
	slowest         float64 // share of all
	longer, shorter int64   // bounds in nanoseconds
}

// asked reads which slow spans are asked about: at most so many in a thousand.
func (s SpanRoutes) asked(c *gin.Context, most int64) (a slowAsked, ok bool) {
	o, x, ok := s.spans(c)
	if !ok {
		return a, false
	}
	permille, err1 := request.Number(c, "permille", 10, 1, most)
	var err2, err3, err error
	a.longer, err2 = request.Number(c, "longer", 0, 0, 1<<62)
	a.shorter, err3 = request.Number(c, "shorter", 1<<62, 0, 1<<62)
	if err = cmp.Or(err1, err2, err3); err == nil {
		if a.name = x.Find(c.Query("name")); a.name == nil {
			err = request.Bad(fmt.Errorf("no span in scope is named %q", c.Query("name")))
		}
	}
	if err == nil {
		a.laid, err = s.Server.Lanes(c, o)
	}
	if err != nil {
		s.Fail(c, err)
		return a, false
	}
	a.take, a.slowest = o.Take, float64(permille)/1000
	return a, true
}

// blameRows are the rows of critical paths that are added up, the most first.
func blameRows(p *profile.Profile, x *lanes.Index, rows []lanes.Blame, named *namedFunctions) []api.LaneBlameOut {
	out := []api.LaneBlameOut{}
	for i, b := range rows {
		if i == maxBlame {
			break
		}
		row := api.LaneBlameOut{Lane: laneOf(p, &x.Lanes[b.Lane]), State: int(b.State), Function: -1, NS: b.NS, Steps: b.Steps, Samples: b.Samples, Line: int(b.Line)}
		if b.Function != 0 {
			row.Function = named.of(b.Function)
		}
		out = append(out, row)
	}
	return out
}

// spans opens the take that is asked for, and gathers its spans in the scope.
func (s SpanRoutes) spans(c *gin.Context) (o *request.Opened, x *spans.Index, ok bool) {
	o, sc, ok := s.inScope(c)
	if !ok {
		return nil, nil, false
	}
	x, err := s.SpansIn(c, o, sc)
	if err != nil {
		s.Fail(c, err)
		return nil, nil, false
	}
	return o, x, true
}
