package viewing

import (
	"cmp"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"entelon/core/lanes"
	"entelon/core/profile"
	"entelon/core/scope"
	"entelon/server/api"
	"entelon/server/request"
)

// Bounds of what is told of lanes at once.
const (
	maxLaneRows  = 200
	maxLaneParts = 4000
	maxOpenLanes = 20
	maxLanes     = 20_000
	maxPathSteps = 5000
	maxBlame     = 500
)

// Lanes answers GET /takes/{key}/lanes.
func (s LensRoutes) Lanes(c *gin.Context) {
	o, x, shown, sc, ok := s.laidOut(c)
	if !ok {
		return
	}
	from, err1 := request.Number(c, "begin", 0, 0, 1<<60)
	to, err2 := request.Number(c, "end", max(1, x.Duration), 1, 1<<60)
	parts, err3 := request.Number(c, "parts", 1000, 1, maxLaneParts)
	first, err4 := request.Number(c, "first", 0, 0, 1<<30)
	count, err5 := request.Number(c, "count", 40, 0, maxLaneRows)
	for _, err := range []error{err1, err2, err3, err4, err5} {
		if err != nil {
			s.Fail(c, err)
			return
		}
	}
	if to <= from {
		s.Fail(c, request.Bad(fmt.Errorf("the end, %d, is not after the beginning, %d", to, from)))
		return
	}
	open, err := openLanes(c.Query("open"))
	if err != nil {
		s.Fail(c, request.Bad(err))
		return
	}
	p := o.Take.Profile
	out := api.LanesOut{
		DurationNS: x.Duration, FromNS: from, ToNS: to, Measured: x.Measured, TickNS: x.Tick, Hidden: len(x.Lanes) - len(shown),
		Lanes: []api.LaneOut{}, First: int(first), Rows: []api.LaneRowOut{}, SpanNames: []string{}, Functions: []api.FunctionRef{},
	}
	out.States = laneStates()
	for _, k := range o.Take.Facts.Counted {
		out.Thinned, out.Lost = out.Thinned+k.Thinned, out.Lost+k.Unwritten
	}
	for i, at := range shown {
		if i == maxLanes || c.Query("bare") == "true" {
			break
		}
		lane := laneOf(p, &x.Lanes[at])
		lane.Levels = lanes.SpanLevelsOf(x, at)
		out.Lanes = append(out.Lanes, lane)
	}
	named := &namedFunctions{p: p, at: map[profile.FunctionID]int{}}
	keep := sc.Contains(p)
	spanNames := map[profile.FunctionID]int{}
	for i := int(first); i < min(len(shown), int(first+count)); i++ {
		row := rowOut(x.Row(shown[i], from, to, int(parts)), from)
		for _, r := range x.Spans(shown[i], from, to, int(parts)) {
			name, known := spanNames[r.Name]
			if !known {
				name = len(out.SpanNames)
				spanNames[r.Name] = name
				out.SpanNames = append(out.SpanNames, profile.Short(profile.SpanNameOf(p, r.Name)))
			}
			row.Spans = append(row.Spans, r.From-from, r.To-from, int64(r.Level), int64(name), int64(r.Interval), int64(r.Count))
		}
		if open[x.Lanes[shown[i]].Thread] {
			if times := x.Seen(shown[i], from, to, keep); len(times) <= maxLaneParts {
				for _, t := range times {
					row.Seen = append(row.Seen, t-from)
				}
			}
			for _, b := range x.Bars(shown[i], from, to, int(parts), keep) {
				row.Bars = append(row.Bars, b.From-from, b.To-from, int64(b.Depth), int64(named.of(b.Function)), int64(b.Samples), int64(b.Count))
			}
		}
		out.Rows = append(out.Rows, row)
	}
	out.Functions = append(out.Functions, named.list...)
	c.JSON(http.StatusOK, out)
}

// LaneAt answers GET /takes/{key}/lanes/at.
func (s LensRoutes) LaneAt(c *gin.Context) {
	o, x, _, _, ok := s.laidOut(c)
	if !ok {
		return
	}
	lane, ok := s.lane(c, x)
	if !ok {
		return
	}
	at, err := request.Number(c, "at", -1, 0, 1<<60)
	if err != nil {
		s.Fail(c, err)
		return
	}
	found, ok := x.At(lane, at)
	if !ok {
		s.Fail(c, request.Bad(fmt.Errorf("the thread was not there at %d ns", at)))
		return
	}
	p := o.Take.Profile
	named := &namedFunctions{p: p, at: map[profile.FunctionID]int{}}
	out := api.LaneAtOut{
		FromNS: found.From, ToNS: found.To, State: found.State.String(), Words: found.State.Words(), Interval: found.Interval,
		PreviousNS: found.Previous, NextNS: found.Next, Samples: found.Samples, Stack: named.stack(found.Stack), ByStack: []int32{},
	}
	if found.Ended {
		out.ByStack = named.stack(found.ByStack)
		if out.Interrupt = found.By == profile.NoThread; !out.Interrupt {
			by := lanes.Lane{Thread: found.By}
			if n := x.LaneOf(found.By); n >= 0 {
				by = x.Lanes[n]
			}
			who := laneOf(p, &by)
			out.By = &who
		}
	}
	out.Functions = append([]api.FunctionRef{}, named.list...)
	c.JSON(http.StatusOK, out)
}

// LanePath answers GET /takes/{key}/lanes/path.
func (s LensRoutes) LanePath(c *gin.Context) {
	o, x, _, _, ok := s.laidOut(c)
	if !ok {
		return
	}
	lane, ok := s.lane(c, x)
	if !ok {
		return
	}
	from, err1 := request.Number(c, "begin", 0, 0, 1<<60)
	to, err2 := request.Number(c, "end", max(1, x.Duration), 1, 1<<60)
	if err := cmp.Or(err1, err2); err != nil {
		s.Fail(c, err)
		return
	}
	p := o.Take.Profile
	steps, err := x.CriticalPath(lane, from, to)
	if err != nil {
		s.Fail(c, request.Bad(err))
		return
	}
	out := api.LanePathOut{FromNS: max(from, x.Lanes[lane].From), ToNS: min(to, x.Lanes[lane].To), Steps: []int64{}, Cut: len(steps) > maxPathSteps, States: laneStates()}
	for _, st := range steps[:min(len(steps), maxPathSteps)] {
		out.Steps = append(out.Steps, st.From, st.To, int64(x.Lanes[st.Lane].Thread), int64(st.State), int64(st.Depth))
	}
	named := &namedFunctions{p: p, at: map[profile.FunctionID]int{}}
	out.Blame = blameRows(p, x, x.BlameOf(steps), named)
	out.Functions = append([]api.FunctionRef{}, named.list...)
	c.JSON(http.StatusOK, out)
}

func laneStates() (out []api.LaneStateOut) {
	for st := range lanes.States {
		out = append(out, api.LaneStateOut{Name: st.String(), Words: st.Words()})
	}
	return out
}

// lane is that of the thread that is asked for.
func (s LensRoutes) lane(c *gin.Context, x *lanes.Index) (lane int, ok bool) {
	thread, err := request.Number(c, "thread", -1, 0, 1<<32-1)
	if err != nil {
		s.Fail(c, err)
		return 0, false
	}
	if lane = x.LaneOf(profile.ThreadID(thread)); lane < 0 {
		s.Fail(c, request.Bad(fmt.Errorf("thread %d has no lane in this take", thread)))
		return 0, false
	}
	return lane, true
}

// laidOut opens the take that is asked for, lays it out over time, and tells which lanes have something
// in the scope.
func (s LensRoutes) laidOut(c *gin.Context) (o *request.Opened, x *lanes.Index, shown []int, sc scope.Scope, ok bool) {
	if o, sc, ok = s.inScope(c); !ok {
		return
	}
	x, shown, err := s.LanesIn(c, o, sc)
	if err != nil {
		s.Fail(c, err)
		return nil, nil, nil, sc, false
	}
	return o, x, shown, sc, true
}

// inScope opens the take that is asked for, with the scope.
func (s LensRoutes) inScope(c *gin.Context) (o *request.Opened, sc scope.Scope, ok bool) {
	sc, err := request.ScopeOf(c)
	if err != nil {
		s.Fail(c, err)
		return
	}
	o, row, err := s.Open(c, c.Param("key"))
	if err == nil {
		if fits := sc.Fits(o.Take.Profile); fits != nil {
			err = request.Bad(fits)
		}
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	return o, sc.Of(request.AboutOf(row)), true
}

// openLanes reads threads that are shown with their sampled paths.
func openLanes(text string) (map[profile.ThreadID]bool, error) {
	out := map[profile.ThreadID]bool{}
	for _, t := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' }) {
		n, err := strconv.ParseUint(t, 10, 32)
		if err != nil || len(out) == maxOpenLanes {
			return nil, fmt.Errorf("open %q: give at most %d numbers of threads", text, maxOpenLanes)
		}
		out[profile.ThreadID(n)] = true
	}
	return out, nil
}

func laneOf(p *profile.Profile, l *lanes.Lane) api.LaneOut {
	th := p.Threads[l.Thread]
	pr := p.Processes[th.Process]
	return api.LaneOut{
		ID: uint32(l.Thread), Process: p.Strings[pr.Name], PID: pr.PID, Thread: p.Strings[th.Name], TID: th.TID, Words: p.ThreadWords(l.Thread), Routine: th.Goroutine, MadeUp: profile.MadeUp(p, th),
		FromNS: max(0, l.From), ToNS: l.To, Spent: l.Spent[:], Waits: l.Waits, Samples: l.Samples(),
	}
}

func rowOut(runs []lanes.Run, from int64) api.LaneRowOut {
	out := api.LaneRowOut{Runs: make([]int64, 0, 6*len(runs)), Spent: [][]int64{}, Bars: []int64{}, Spans: []int64{}, Seen: []int64{}}
	for _, r := range runs {
		spent := int64(-1)
		if r.Count > 1 {
			spent = int64(len(out.Spent))
			var of []int64
			for s, ns := range r.Spent {
				if ns > 0 {
					of = append(of, int64(s), ns)
				}
			}
			out.Spent = append(out.Spent, of)
		}
		out.Runs = append(out.Runs, r.From-from, r.To-from, int64(r.State), int64(r.Count), int64(r.Interval), spent)
	}
	return out
}
