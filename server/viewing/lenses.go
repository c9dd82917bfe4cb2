package viewing

import (
	"cmp"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"entelon/core/callgraph"
	"entelon/core/calltree"
	"entelon/core/profile"
	"entelon/server/api"
	"entelon/server/request"
)

// LensRoutes answers for one take, looked at in different ways.
type LensRoutes struct{ *request.Server }

// Bounds of what a lens is told at once.
const (
	maxSteps     = 400
	maxPath      = 500
	maxLevels    = 5
	maxNeighbour = 30
	maxGraph     = 150
)

func stepOut(p *profile.Profile, s callgraph.Step, calls int64) api.PathRow {
	return api.PathRow{Function: refOf(p, s.Function), Node: uint32(s.Node), Self: s.Self, Total: s.Total, Samples: s.Samples, Calls: calls, More: s.More}
}

// Paths tells what follows a step of a path, from the roots by the number of
// its node, from the leaves by the functions up to it.
func (s LensRoutes) Paths(c *gin.Context) {
	o, _, k, ok := s.scoped(c)
	if !ok {
		return
	}
	p := o.Tree.Profile
	counts := k.Calls()
	out := api.PathsOut{Total: k.Cost.Total(0), Samples: k.Cost.TotalSamples(0)}
	calls := func(callgraph.Step) int64 { return 0 }
	if counts != nil {
		calls = func(x callgraph.Step) int64 { return counts.At(x.Node) }
	}
	var steps []callgraph.Step
	if c.Query("start") == "leaves" {
		var path []profile.FunctionID
		for _, text := range strings.FieldsFunc(c.Query("path"), func(r rune) bool { return r == ',' }) {
			f, err := strconv.ParseUint(text, 10, 32)
			if err != nil || f >= uint64(len(p.Functions)) || len(path) == maxPath {
				s.Fail(c, request.Bad(fmt.Errorf("path %q: give numbers of functions of this take", c.Query("path"))))
				return
			}
			path = append(path, profile.FunctionID(f))
		}
		steps = callgraph.Leaves(o.Tree, k.Cost, path)
		if counts != nil && len(path) == 0 {
			calls = func(x callgraph.Step) int64 { return counts.Of(x.Function) }
		} else if counts != nil {
			through := counts.Through(path)
			calls = func(x callgraph.Step) int64 { return through[x.Function] }
		}
	} else {
		n, err := request.Number(c, "node", 0, 0, int64(o.Tree.Len()-1))
		if err != nil {
			s.Fail(c, err)
			return
		}
		steps = callgraph.Below(o.Tree, k.Cost, calltree.NodeID(n))
		if c.Query("heaviest") == "true" {
			spread := calltree.SpreadPoint(o.Tree, k.Cost, 0.5)
			out.Spread = uint32(spread)
			out.Heaviest = []uint32{}
			out.Steps = []api.PathSteps{}
			if spread != 0 {
				path := o.Tree.Path(spread)
				out.Deeper = max(0, len(path)-maxPath)
				for _, n := range path[:len(path)-out.Deeper] {
					out.Heaviest = append(out.Heaviest, uint32(n))
					out.Steps = append(out.Steps, stepsOut(p, callgraph.Below(o.Tree, k.Cost, n), calls))
				}
			}
		}
	}
	first := stepsOut(p, steps, calls)
	out.Rows, out.Hidden, out.HiddenValue = first.Rows, first.Hidden, first.HiddenValue
	c.JSON(http.StatusOK, out)
}

// stepsOut are the first of some steps, and what is left.
func stepsOut(p *profile.Profile, steps []callgraph.Step, calls func(callgraph.Step) int64) api.PathSteps {
	out := api.PathSteps{Rows: []api.PathRow{}}
	for i, x := range steps {
		if i >= maxSteps {
			out.Hidden++
			out.HiddenValue += x.Total
			continue
		}
		out.Rows = append(out.Rows, stepOut(p, x, calls(x)))
	}
	return out
}

// Threads tells what each thread costs.
func (s LensRoutes) Threads(c *gin.Context) {
	o, _, k, ok := s.scoped(c)
	if !ok {
		return
	}
	p := o.Tree.Profile
	out := api.ThreadsOut{Total: k.Cost.Total(0), Threads: []api.ThreadCost{}}
	for _, r := range o.Tree.Threads(k.Measure, k.Scope) {
		t := p.Threads[r.Thread]
		out.Threads = append(out.Threads, api.ThreadCost{TID: t.TID, Name: p.Strings[t.Name], Process: p.Strings[p.Processes[t.Process].Name], Value: r.Value, Samples: r.Samples})
	}
	c.JSON(http.StatusOK, out)
}

// maxBuilds is how many builds a function is followed through in a scope: each
// has to be opened for it.
const maxBuilds = 12

// Builds follows a function through the newest takes of a program's builds, in
// the scope in which it is looked at.
func (s LensRoutes) Builds(c *gin.Context) {
	sc, err := request.ScopeOf(c)
	if err != nil {
		s.Fail(c, err)
		return
	}
	row, err := s.Store.Take(c.Request.Context(), c.Param("key"))
	if err != nil {
		s.Fail(c, err)
		return
	}
	list, err := s.Store.NewestOfBuilds(c.Request.Context(), row, maxBuilds)
	if err != nil {
		s.Fail(c, err)
		return
	}
	out := api.BuildsOut{Builds: []api.BuildFigure{}}
	for i := range list {
		if c.Request.Context().Err() != nil { // nobody waits any more
			c.Abort()
			return
		}
		t := &list[i]
		o, err := s.Load(c, t, s.Keep.GetInPassing)
		if err != nil {
			s.Fail(c, err)
			return
		}
		m, err := o.Take.Profile.MeasureNamed(c.Query("measure"))
		if err != nil {
			continue // that build was not measured by it
		}
		k := o.Cost(m, sc.Of(request.AboutOf(t)))
		x := api.BuildFigure{Build: t.Build.Name, Takes: 1}
		if total := float64(k.Cost.Total(0)); total > 0 {
			if r, ok := find(o.View, k, c.Query("name"), c.Query("module")); ok {
				x.SelfShare, x.TotalShare = float64(r.Self)/total, float64(r.Total)/total
			}
		}
		out.Builds = append(out.Builds, x)
	}
	c.JSON(http.StatusOK, out)
}

// Neighbours tells where a function's cost comes in and where it goes on.
func (s LensRoutes) Neighbours(c *gin.Context) {
	levels, err1 := request.Number(c, "levels", 2, 1, maxLevels)
	most, err2 := request.Number(c, "most", 8, 1, maxNeighbour)
	if err := cmp.Or(err1, err2); err != nil {
		s.Fail(c, err)
		return
	}
	o, _, k, ok := s.scoped(c)
	if !ok {
		return
	}
	p := o.Tree.Profile
	r, found := find(o, k, c.Query("name"), c.Query("module"))
	if !found {
		s.Nothing(c, c.Query("name"))
		return
	}
	h := callgraph.Around(o.Tree, k.Cost, r.Function, int(levels), int(most))
	out := api.NeighboursOut{ScopeTotal: k.Cost.Total(0), Total: h.Total, Self: h.Self, Nodes: []api.NeighbourOut{}, Links: []api.LinkOut{}}
	for _, n := range h.Nodes {
		x := api.NeighbourOut{Level: n.Level, Value: n.Value, Samples: n.Samples, Others: n.Others}
		if n.Function != 0 {
			ref := refOf(p, n.Function)
			x.Function = &ref
		}
		out.Nodes = append(out.Nodes, x)
	}
	counts := k.Calls()
	for _, l := range h.Links {
		x := api.LinkOut{From: l.From, To: l.To, Value: l.Value}
		if from, to := h.Nodes[l.From].Function, h.Nodes[l.To].Function; counts != nil && from != 0 && to != 0 {
			x.Calls = counts.Between(from, to)
		}
		out.Links = append(out.Links, x)
	}
	c.JSON(http.StatusOK, out)
}

// Graph tells the call graph of a scope without its thin parts.
func (s LensRoutes) Graph(c *gin.Context) {
	most, err := request.Number(c, "most", 40, 2, maxGraph)
	if err != nil {
		s.Fail(c, err)
		return
	}
	permille, err := request.Number(c, "least_permille", 10, 0, 1000)
	if err != nil {
		s.Fail(c, err)
		return
	}
	o, _, k, ok := s.scoped(c)
	if !ok {
		return
	}
	g := callgraph.Calls(o.Tree, k.Cost, k.Rows(), int(most), float64(permille)/1000)
	out := api.GraphOut{Total: k.Cost.Total(0), HiddenFunctions: g.HiddenFunctions, HiddenLinks: g.HiddenLinks, HiddenSelf: g.HiddenSelf, Nodes: []api.GraphNode{}, Links: []api.LinkOut{}}
	for _, f := range g.Functions {
		out.Nodes = append(out.Nodes, api.GraphNode{Function: refOf(o.Tree.Profile, f.Function), Self: f.Self, Total: f.Total})
	}
	counts := k.Calls()
	for _, l := range g.Links {
		x := api.LinkOut{From: l.From, To: l.To, Value: l.Value}
		if counts != nil {
			x.Calls = counts.Between(g.Functions[l.From].Function, g.Functions[l.To].Function)
		}
		out.Links = append(out.Links, x)
	}
	c.JSON(http.StatusOK, out)
}

// Nothing says that a function is not in the take.
func (s LensRoutes) Nothing(c *gin.Context, name string) {
	c.AbortWithStatusJSON(http.StatusNotFound, api.ErrorBody{
		Error: fmt.Sprintf("%s has no samples in this scope", name), Remedy: "widen the scope, or choose another function"})
}
