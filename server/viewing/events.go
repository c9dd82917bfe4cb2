package viewing

import (
	"fmt"
	"net/http"

	"github.com/gin-gonic/gin"

	"entelon/core/events"
	"entelon/core/profile"
	"entelon/server/api"
	"entelon/server/request"
)

// Bounds of what is told of events at once.
const (
	maxEvents      = 1000
	maxEventFrames = 120
	maxEventBins   = 2000
)

// Events answers GET /takes/{key}/events.
func (s LensRoutes) Events(c *gin.Context) {
	limit, err := request.Number(c, "limit", 300, 1, maxEvents)
	if err != nil {
		s.Fail(c, err)
		return
	}
	bins, err := request.Number(c, "bins", 200, 1, maxEventBins)
	if err != nil {
		s.Fail(c, err)
		return
	}
	sc, err := request.ScopeOf(c)
	if err != nil {
		s.Fail(c, err)
		return
	}
	by := events.Order(c.DefaultQuery("sort", string(events.ByAmount)))
	if by != events.ByAmount && by != events.ByTime {
		s.Fail(c, request.Bad(fmt.Errorf("events cannot be sorted by %q; choose amount or time", by)))
		return
	}
	o, row, err := s.Open(c, c.Param("key"))
	if err != nil {
		s.Fail(c, err)
		return
	}
	p := o.Take.Profile
	if err := sc.Fits(p); err != nil {
		s.Fail(c, request.Bad(err))
		return
	}
	kinds := events.KindsOf(o.Take)
	out := api.EventsOut{Kinds: []api.EventKindOut{}, Sizes: []api.EventSizeOut{}, Over: []int64{}, Functions: []api.FunctionRef{}, Rows: []api.EventRowOut{}, Columns: []api.EventColumnOut{}, By: []api.EventGroupOut{}, ToNS: row.DurationNS}
	for _, k := range kinds {
		out.Kinds = append(out.Kinds, api.EventKindOut{Name: k.Name, Label: k.Label, Unit: k.Unit, Column: k.Column(p), Events: k.Events, Single: k.Single, Lost: k.Lost, Apart: k.Apart, Short: k.Short()})
	}
	if len(kinds) == 0 {
		c.JSON(http.StatusOK, out)
		return
	}
	k, err := events.Named(kinds, c.Query("kind"))
	if err != nil {
		s.Fail(c, request.Bad(err))
		return
	}
	q := events.Question{Kind: k, Scope: sc.Of(request.AboutOf(row)), By: by, Limit: int(limit), To: row.DurationNS, Bins: int(bins), Columns: events.ColumnsOf(p, &k)}
	if name := c.Query("column"); name != "" {
		if q.Column, err = events.ColumnNamed(q.Columns, name); err != nil {
			s.Fail(c, request.Bad(err))
			return
		}
		out.Column = name
	}
	f := events.Find(p, q)
	out.Kind, out.Unit, out.All, out.Events, out.Total = k.Name, q.Unit(), f.All, f.Events, f.Total
	out.Median, out.Ninety, out.Almost, out.Largest, out.Over = f.Median, f.Ninety, f.Almost, f.Largest, f.Over
	for _, x := range f.Sizes {
		out.Sizes = append(out.Sizes, api.EventSizeOut{From: x.From, To: x.To, Rows: x.Rows})
	}
	for i := range q.Columns {
		out.Columns = append(out.Columns, api.EventColumnOut{Name: q.Columns[i].Name, Unit: q.Columns[i].Words(), Rows: q.Columns[i].Rows})
	}
	for _, g := range f.Groups {
		by := api.EventGroupOut{Column: g.Column, Texts: []api.EventTextOut{}, Others: g.Others, Rows: g.Rows, Total: g.Total, None: g.None}
		for _, t := range g.Texts {
			by.Texts = append(by.Texts, api.EventTextOut(t))
		}
		out.By = append(out.By, by)
	}
	named := &namedFunctions{p: p, at: map[profile.FunctionID]int{}}
	for _, r := range f.Rows {
		told := named.event(r)
		for i, v := range r.Values {
			x := api.EventValueOut{Has: v.Has, Number: v.Number, Text: v.Text}
			if v.Has && q.Columns[i].Type == profile.AttributeAddress {
				x.Number, x.Text = 0, fmt.Sprintf("%#x", uint64(v.Number)) // it does not fit into a number of the page's language
			}
			told.Values = append(told.Values, x)
		}
		out.Rows = append(out.Rows, told)
	}
	out.Functions = append(out.Functions, named.list...)
	c.JSON(http.StatusOK, out)
}

// namedFunctions are the functions that rows speak of, each once.
type namedFunctions struct {
	p    *profile.Profile
	at   map[profile.FunctionID]int
	list []api.FunctionRef
}

func (n *namedFunctions) of(f profile.FunctionID) int {
	k, known := n.at[f]
	if !known {
		k = len(n.list)
		n.at[f] = k
		n.list = append(n.list, refOf(n.p, f))
	}
	return k
}

func (n *namedFunctions) event(r events.Row) api.EventRowOut {
	p := n.p
	th := p.Threads[r.Thread]
	pr := p.Processes[th.Process]
	out := api.EventRowOut{
		Sample: r.Sample, AtNS: r.Time, Amount: r.Amount, Events: r.Events, Process: p.Strings[pr.Name], PID: pr.PID,
		Thread: p.Strings[th.Name], TID: th.TID, What: n.of(r.What), Place: -1, Values: []api.EventValueOut{},
	}
	if at, ok := events.Place(p, r.Stack); ok {
		fr := p.Frames[at]
		out.Place, out.File, out.Line = n.of(fr.Function), p.Strings[p.Functions[fr.Function].File], fr.Line
	}
	out.Stack = n.stack(r.Stack)
	p.Walk(r.Stack, func(profile.FrameID) { out.Deeper++ })
	out.Deeper -= len(out.Stack)
	return out
}

// stack are the functions of a stack, the innermost first, as many as are told.
func (n *namedFunctions) stack(s profile.StackID) []int32 {
	out := []int32{}
	n.p.Walk(s, func(id profile.FrameID) {
		if len(out) < maxEventFrames {
			out = append(out, int32(n.of(n.p.Frames[id].Function)))
		}
	})
	return out
}
