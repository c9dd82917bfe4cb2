package viewing

import (
	"bytes"
	"cmp"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"entelon/codec"
	"entelon/codec/formats"
	"entelon/core/calltree"
	"entelon/people"
	"entelon/server/collecting"
	"entelon/server/request"
	"entelon/store"
)

// fileName is what a browser keeps an export as.
func fileName(row *store.Take, ending string) string {
	return strings.Map(func(r rune) rune {
		if r <= ' ' || strings.ContainsRune(`"/\\;`, r) {
			return '_'
		}
		return r
	}, row.Program.Name+"-"+row.Build.Name) + ending
}

// Export answers with a file that was made whole before, so that an error is an
// answer of its own.
func (s TakeRoutes) Export(c *gin.Context, row *store.Take, kind, ending string, write func(*bytes.Buffer) error) {
	var b bytes.Buffer
	if err := write(&b); err != nil {
		s.Fail(c, err)
		return
	}
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", fileName(row, ending)))
	c.Data(http.StatusOK, kind, b.Bytes())
}

// maxExport bounds a file of stacks, in bytes.
const maxExport = 64 << 20

// Exports are the routes of what a take can be written as; a whole take is downloaded
// as it was sent.
func (s TakeRoutes) Exports(with func(more ...request.Param) []request.Param) (out []request.Route) {
	for _, e := range formats.Encoders {
		if e.Whole {
			continue
		}
		var params []request.Param
		for _, p := range e.Params {
			params = append(params, request.Query(p.Name, p.Type, p.Means, false))
		}
		kind, _, _ := strings.Cut(e.Type, ";")
		out = append(out, request.Route{
			Needs: people.Look, Method: http.MethodGet, Path: "/takes/{key}/" + e.Name + e.Ending, Load: request.Heavy,
			Summary: strings.ToUpper(e.Means[:1]) + e.Means[1:], File: kind, Query: with(params...),
			Handle: func(c *gin.Context) { s.exportAs(c, e) },
		})
	}
	return out
}

// exportAs answers with a take in a format.
func (s TakeRoutes) exportAs(c *gin.Context, e codec.Encoder) {
	pixels, err1 := request.Number(c, "pixels", 1400, 200, 20_000)
	order, err2 := calltree.ParseOrder(c.Query("order"))
	if err2 != nil {
		err2 = request.Bad(err2)
	}
	if err := cmp.Or(err1, err2); err != nil {
		s.Fail(c, err)
		return
	}
	o, row, k, ok := LensRoutes(s).scoped(c)
	if !ok {
		return
	}
	root, err := rootOf(c, o)
	if err != nil {
		s.Fail(c, err)
		return
	}
	t := *o.Take
	t.Settings = collecting.Shown(row.Settings)
	t.Settings.Program, t.Settings.Build, t.Settings.Note = row.Program.Name, row.Build.Name, row.Note
	view := codec.View{
		Take: &t, Tree: o.Tree, Cost: k.Cost, Rows: k.Rows, Scope: k.Scope, Shape: shapeOf(c), Focus: c.Query("focus"), Notes: func() ([]codec.Note, error) { return NoteRoutes(s).reportNotes(c, row) }, Now: time.Now(),
		Root: root, Order: order, Up: c.Query("up") == "true", Width: int(pixels), Values: c.Query("values") == "true",
		Bounds: codec.Bounds{Rows: maxRowsDrawn, Boxes: maxBoxes, Bytes: maxExport},
	}
	s.Export(c, row, e.Type, e.Ending, func(b *bytes.Buffer) error { return e.Encode(b, view) })
}
