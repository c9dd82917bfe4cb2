package viewing

import (
	"fmt"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"entelon/core/calltree"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scope"
	"entelon/server/api"
	"entelon/server/request"
	"entelon/store"
)

// scoped opens the take of a request with the costs in its scope.
func (s LensRoutes) scoped(c *gin.Context) (*request.View, *store.Take, request.ScopedCost, bool) {
	sc, err := request.ScopeOf(c)
	if err != nil {
		s.Fail(c, err)
		return nil, nil, request.ScopedCost{}, false
	}
	o, row, err := s.Open(c, c.Param("key"))
	if err != nil {
		s.Fail(c, err)
		return nil, nil, request.ScopedCost{}, false
	}
	m, err := request.MeasureOf(c, o.Take.Profile)
	if err != nil {
		s.Fail(c, err)
		return nil, nil, request.ScopedCost{}, false
	}
	if err := sc.Fits(o.Take.Profile); err != nil {
		s.Fail(c, request.Bad(err))
		return nil, nil, request.ScopedCost{}, false
	}
	shape := shapeOf(c)
	if err := shape.Check(); err != nil {
		s.Fail(c, request.Bad(err))
		return nil, nil, request.ScopedCost{}, false
	}
	v, err := s.Shaped(c, o, shape)
	if err != nil {
		s.Fail(c, err)
		return nil, nil, request.ScopedCost{}, false
	}
	k, err := v.CostFor(c.Request.Context(), m, sc.Of(request.AboutOf(row)))
	if err != nil { // nobody waits any more
		c.Abort()
		return nil, nil, request.ScopedCost{}, false
	}
	return v, row, k, true
}

// shapeOf reads how stacks become a tree.
func shapeOf(c *gin.Context) calltree.Shape {
	return calltree.Shape{Fold: c.Query("fold"), Group: c.Query("group"), Merge: c.Query("merge") == "true", Through: c.Query("through"), Module: c.Query("through_module")}
}

func refOf(p *profile.Profile, id profile.FunctionID) api.FunctionRef {
	name := p.FunctionName(id)
	f := p.Functions[id]
	return api.FunctionRef{ID: uint32(id), Name: name, Short: profile.Short(name), Module: p.ModulePath(id), Area: p.Area(id), Kind: f.Kind.String(), Runs: p.Modules[f.Module].Kind.Runs()}
}

// Kept tells how much a scope keeps, before anybody changes to it; what is found
// out for that is there when somebody does.
func (s LensRoutes) Kept(c *gin.Context) {
	o, _, k, ok := s.scoped(c)
	if !ok {
		return
	}
	whole := o.Cost(k.Measure, scope.Scope{}).Cost
	c.JSON(http.StatusOK, api.KeptOut{Total: k.Cost.Total(0), Samples: k.Cost.TotalSamples(0), OfTotal: whole.Total(0), OfSamples: whole.TotalSamples(0)})
}

// Hot answers GET /takes/{key}/hot.
func (s LensRoutes) Hot(c *gin.Context) {
	o, _, k, ok := s.scoped(c)
	if !ok {
		return
	}
	p := o.Tree.Profile
	out := api.HotOut{
		Total: k.Cost.Total(0), Samples: k.Cost.TotalSamples(0),
		ID: []uint32{}, Functions: []api.FunctionRef{}, Self: []int64{}, SumTotal: []int64{}, SelfSamples: []int64{}, TotalSamples: []int64{}, Calls: []int64{}, File: []string{}, Line: []uint32{}, Reading: []api.ReadingPart{},
	}
	bare := c.Query("bare") == "true"
	counts := k.Calls()
	for i, r := range k.Rows() {
		if i >= maxHot {
			out.More++
			out.MoreSelf += r.Self
			continue
		}
		out.ID = append(out.ID, uint32(r.Function))
		out.Self = append(out.Self, r.Self)
		out.SumTotal = append(out.SumTotal, r.Total)
		out.SelfSamples = append(out.SelfSamples, r.SelfSamples)
		out.TotalSamples = append(out.TotalSamples, r.TotalSamples)
		if counts != nil {
			out.Calls = append(out.Calls, counts.Of(r.Function))
		}
		if bare {
			continue
		}
		out.Functions = append(out.Functions, refOf(p, r.Function))
		out.File = append(out.File, p.Strings[p.Functions[r.Function].File])
		out.Line = append(out.Line, p.Functions[r.Function].Line)
	}
	for _, part := range o.Reader().Take(k.Cost, k.Rows()) {
		x := api.ReadingPart{Text: part.Text}
		if part.Function != 0 {
			ref := refOf(p, part.Function)
			x.Function = &ref
		}
		out.Reading = append(out.Reading, x)
	}
	c.JSON(http.StatusOK, out)
}

// Functions tells what does not change with the scope, so that it is asked for
// once and not with each scope.
func (s LensRoutes) Functions(c *gin.Context) {
	shape := shapeOf(c)
	if err := shape.Check(); err != nil {
		s.Fail(c, request.Bad(err))
		return
	}
	o, _, err := s.Open(c, c.Param("key"))
	if err != nil {
		s.Fail(c, err)
		return
	}
	v, err := s.Shaped(c, o, shape)
	if err != nil {
		s.Fail(c, err)
		return
	}
	p := v.Tree.Profile
	out := api.FunctionsOut{Texts: []string{}}
	if len(p.Functions) > maxNamed { // they come with each question instead
		out.TooMany = true
		c.JSON(http.StatusOK, out.Empty())
		return
	}
	index := map[string]uint32{}
	text := func(t string) uint32 {
		i, ok := index[t]
		if !ok {
			i = uint32(len(out.Texts))
			index[t] = i
			out.Texts = append(out.Texts, t)
		}
		return i
	}
	for id, f := range p.Functions {
		ref := refOf(p, profile.FunctionID(id))
		if ref.Short == ref.Name {
			ref.Short = ""
		}
		out.Name, out.Short = append(out.Name, ref.Name), append(out.Short, ref.Short)
		out.Module, out.Area = append(out.Module, text(ref.Module)), append(out.Area, text(ref.Area))
		out.Kind, out.Runs = append(out.Kind, text(ref.Kind)), append(out.Runs, text(ref.Runs))
		out.File, out.Line = append(out.File, text(p.Strings[f.File])), append(out.Line, f.Line)
	}
	c.JSON(http.StatusOK, out)
}

// Thinnest is the width in pixels from which on a frame is drawn by itself.
const Thinnest = 2

// rootOf reads the node below which a question is asked.
func rootOf(c *gin.Context, o *request.View) (calltree.NodeID, error) {
	n, err := request.Number(c, "root", 0, 0, int64(o.Tree.Len()-1))
	return calltree.NodeID(n), err
}

// DefaultPixels is the width of a drawing for which no width was given.
const DefaultPixels = 1280

// Flame answers GET /takes/{key}/flame.
func (s LensRoutes) Flame(c *gin.Context) {
	order, err := calltree.ParseOrder(c.Query("order"))
	if err != nil {
		s.Fail(c, request.Bad(err))
		return
	}
	pixels, err := request.Number(c, "pixels", DefaultPixels, 16, 1<<16)
	if err != nil {
		s.Fail(c, err)
		return
	}
	o, row, k, ok := s.scoped(c)
	if !ok {
		return
	}
	n, err := rootOf(c, o)
	if err != nil {
		s.Fail(c, err)
		return
	}
	keep, err := s.pinned(c, o, row)
	if err != nil {
		s.Fail(c, err)
		return
	}
	l := o.Tree.Layout(k.Cost, calltree.LayoutOptions{Root: n, MinWidth: max(1, Thinnest*k.Cost.Total(n)/pixels), Order: order, Keep: keep, Rows: maxRowsDrawn, Boxes: maxBoxes})
	c.JSON(http.StatusOK, flameOut(o, k, n, l))
	o.Prepare()
}

// PinsOf says which functions are pinned, on which a drawing depends.
func (s LensRoutes) PinsOf(c *gin.Context, row *store.Take) (string, error) {
	pins, err := s.Store.Pins(c.Request.Context(), row.Program.Name)
	var b strings.Builder
	for _, p := range pins {
		b.WriteString(p.Function + "\x00")
	}
	return b.String(), err
}

// pinned returns a program's pinned functions, which no drawing leaves out.
func (s LensRoutes) pinned(c *gin.Context, o *request.View, row *store.Take) ([]profile.FunctionID, error) {
	pins, err := s.Store.Pins(c.Request.Context(), row.Program.Name)
	if err != nil || len(pins) == 0 {
		return nil, err
	}
	names := map[string]bool{}
	for _, p := range pins {
		names[p.Function] = true
	}
	var out []profile.FunctionID
	for id := range o.Tree.Profile.Functions {
		if id != 0 && names[o.Tree.Profile.FunctionName(profile.FunctionID(id))] {
			out = append(out, profile.FunctionID(id))
		}
	}
	return out, nil
}

// Bounds of a drawing: its rows, its boxes, and the strips of ancestors above the
// frame that was dived into. What is left out is said, and can be dived into.
const (
	maxRowsDrawn = 1000
	maxBoxes     = 100_000
	maxStrips    = 100
)

// maxHot bounds the rows of the hot functions, and maxNamed the functions of a
// take that are told all at once.
const (
	maxHot   = 20_000
	maxNamed = 100_000
)

func flameOut(o *request.View, k request.ScopedCost, root calltree.NodeID, l *calltree.Layout) api.FlameOut {
	out := flameOf(o.Tree, k.Cost, root, l)
	if counts := k.Calls(); counts != nil {
		for i, n := range l.Node {
			var calls int64
			if l.Hidden[i] == 0 {
				calls = counts.At(n)
			}
			out.Calls = append(out.Calls, calls)
		}
	}
	return out
}

// flameOf is a tree laid out, without counts of calls.
func flameOf(t *calltree.Tree, cost *calltree.Cost, root calltree.NodeID, l *calltree.Layout) api.FlameOut {
	p := t.Profile
	out := api.FlameOut{
		Total: cost.Total(0), Samples: cost.TotalSamples(0), Root: uint32(root), Path: []api.PathStep{}, Functions: []api.FunctionRef{},
		Depth: l.Depth, X: l.X, Width: l.W, Self: l.Self, Hidden: l.Hidden,
		Node: make([]uint32, len(l.Node)), Function: make([]uint32, len(l.Node)), Count: make([]int64, len(l.Node)), Calls: []int64{},
	}
	index := map[profile.FunctionID]uint32{}
	local := func(f profile.FunctionID) uint32 {
		i, ok := index[f]
		if !ok {
			i = uint32(len(out.Functions))
			index[f] = i
			out.Functions = append(out.Functions, refOf(p, f))
		}
		return i
	}
	if root != 0 {
		above := append([]calltree.NodeID{0}, t.Path(t.Parent[root])...)
		out.Above = max(0, len(above)-maxStrips)
		for _, n := range above[out.Above:] {
			out.Path = append(out.Path, api.PathStep{Node: uint32(n), Function: local(t.Function[n]), Total: cost.Total(n)})
		}
	}
	inlined, deep := make([]int32, len(l.Node)), make([]int32, len(l.Node))
	for i, n := range l.Node {
		out.Node[i] = uint32(n)
		out.Function[i] = local(t.Function[n])
		if l.Hidden[i] == 0 {
			out.Count[i] = cost.TotalSamples(n)
		}
		if t.Inlined[n] && l.Hidden[i] == 0 {
			inlined[i] = 1
		}
	}
	for i, is := range l.Deep {
		if is {
			deep[i] = 1
		}
	}
	out.Inlined, out.Deep = inlined, deep
	return out
}

// Search answers GET /takes/{key}/search.
func (s LensRoutes) Search(c *gin.Context) {
	o, _, k, ok := s.scoped(c)
	if !ok {
		return
	}
	root, err := rootOf(c, o)
	if err != nil {
		s.Fail(c, err)
		return
	}
	m := calltree.Search(o.Tree, k.Cost, root, c.Query("text"))
	out := api.SearchOut{Functions: []uint32{}, Nodes: m.Nodes, Value: m.Value, Samples: m.Samples}
	for _, f := range m.Functions {
		out.Functions = append(out.Functions, uint32(f))
	}
	c.JSON(http.StatusOK, out)
}

// find returns the row of a function by name; of several with one name that
// with the largest total counts.
func find(o *request.View, k request.ScopedCost, name, module string) (calltree.FunctionCost, bool) {
	p := o.Tree.Profile
	var best calltree.FunctionCost
	found := false
	for _, r := range k.Rows() {
		if p.FunctionName(r.Function) == name && (module == "" || p.Home(r.Function) == module) && (!found || r.Total > best.Total) {
			best, found = r, true
		}
	}
	return best, found
}

// Function answers GET /takes/{key}/function.
func (s LensRoutes) Function(c *gin.Context) {
	o, row, k, ok := s.scoped(c)
	if !ok {
		return
	}
	name, module := c.Query("name"), c.Query("module")
	r, found := find(o, k, name, module)
	if !found {
		s.Nothing(c, name)
		return
	}
	p := o.Tree.Profile
	figures, err := s.Store.Figures(c.Request.Context(), row.ProgramID, row.InWorkload(), p.Words(k.Measure).Name, name, p.Home(r.Function))
	if err != nil {
		s.Fail(c, err)
		return
	}
	f := p.Functions[r.Function]
	n := k.Cost.TotalSamples(0)
	out := api.FunctionOut{
		Function: refOf(p, r.Function), Linkage: p.Strings[f.Linkage], File: p.Strings[f.File], Line: f.Line,
		Self: r.Self, Total: r.Total, SelfSamples: r.SelfSamples, TotalSamples: r.TotalSamples, ScopeTotal: k.Cost.Total(0),
		Callers: edges(p, calltree.Callers(o.Tree, k.Cost, r.Function)), Callees: edges(p, calltree.Callees(o.Tree, k.Cost, r.Function)), Builds: []api.BuildFigure{},
	}
	if counts := k.Calls(); counts != nil {
		out.CallsCounted, out.Calls = true, counts.Of(r.Function)
		countEdges(out.Callers, func(f profile.FunctionID) int64 { return counts.Between(f, r.Function) })
		countEdges(out.Callees, func(f profile.FunctionID) int64 { return counts.Between(r.Function, f) })
	}
	out.Origin = originOut(p, calltree.OriginOf(o.Tree, k.Cost, r.Function))
	if out.Counted = p.Measures[k.Measure].Counted; !out.Counted {
		out.SelfLow, out.SelfHigh = calltree.Interval(r.SelfSamples, n, calltree.Z95)
		out.TotalLow, out.TotalHigh = calltree.Interval(r.TotalSamples, n, calltree.Z95)
	}
	for _, x := range figures {
		out.Builds = append(out.Builds, api.BuildFigure{Build: x.Build, Takes: x.Takes, SelfShare: x.SelfShare, TotalShare: x.TotalShare})
	}
	c.JSON(http.StatusOK, out)
}

// heaviestLines is how many lines of a function are told.
const heaviestLines = 8

func originOut(p *profile.Profile, o calltree.Origin) api.OriginOut {
	out := api.OriginOut{Inlined: o.Inlined, Into: edges(p, o.Into), CutOff: o.CutOff, Found: foundOut(o.Found), Callers: foundOut(o.Callers), Lines: []api.LineOut{}}
	for i, l := range o.Lines {
		if i == heaviestLines {
			break
		}
		out.Lines = append(out.Lines, api.LineOut{Line: l.Line, Value: l.Value})
	}
	return out
}

func foundOut(values []calltree.FoundValue) []api.FoundOut {
	out := []api.FoundOut{}
	for _, v := range values {
		out = append(out, api.FoundOut{Way: v.Found.String(), Value: v.Value})
	}
	return out
}

func edges(p *profile.Profile, es []calltree.Edge) []api.EdgeOut {
	out := []api.EdgeOut{}
	for _, e := range es {
		x := api.EdgeOut{Value: e.Value, Samples: e.Samples}
		if e.Function != 0 {
			ref := refOf(p, e.Function)
			x.Function = &ref
		}
		out = append(out, x)
	}
	return out
}

// countEdges says how often the calls of edges were made.
func countEdges(es []api.EdgeOut, calls func(profile.FunctionID) int64) {
	for i := range es {
		var f profile.FunctionID // the outer end of stacks
		if es[i].Function != nil {
			f = profile.FunctionID(es[i].Function.ID)
		}
		es[i].Calls = calls(f)
	}
}

// Times answers GET /takes/{key}/times.
func (s LensRoutes) Times(c *gin.Context) {
	bins, err := request.Number(c, "bins", 200, 1, 4000)
	if err != nil {
		s.Fail(c, err)
		return
	}
	o, row, err := s.Open(c, c.Param("key"))
	if err != nil {
		s.Fail(c, err)
		return
	}
	p := o.Take.Profile
	m, err := request.MeasureOf(c, p)
	if err != nil {
		s.Fail(c, err)
		return
	}
	user, kernel, err := p.OverTime(m, row.DurationNS, int(bins))
	if err != nil {
		s.Fail(c, request.Bad(fmt.Errorf("the take cannot be shown over time: %w", err)))
		return
	}
	out := api.TimesOut{ToNS: row.DurationNS, User: user, Kernel: kernel, Level: p.Measures[m].Combine == measure.Level}
	for i := range user {
		out.Highest = max(out.Highest, user[i]+kernel[i])
	}
	c.JSON(http.StatusOK, out)
}
