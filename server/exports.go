package server

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

// export answers with a file that was made whole before, so that an error is an
// answer of its own.
func (s takeRoutes) export(c *gin.Context, row *store.Take, kind, ending string, write func(*bytes.Buffer) error) {
	var b bytes.Buffer
	if err := write(&b); err != nil {
		s.fail(c, err)
		return
	}
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", fileName(row, ending)))
	c.Data(http.StatusOK, kind, b.Bytes())
}

// mostExport bounds a file of stacks, in bytes.
const mostExport = 64 << 20

// exports are the routes of what a take can be written as; a whole take is downloaded
// as it was sent.
func (s takeRoutes) exports(with func(more ...param) []param) (out []route) {
	for _, e := range formats.Encoders {
		if e.Whole {
			continue
		}
		var params []param
		for _, p := range e.Params {
			params = append(params, param{p.Name, p.Type, p.Means, false})
		}
		kind, _, _ := strings.Cut(e.Type, ";")
		out = append(out, route{
			needs: people.Look, method: http.MethodGet, path: "/takes/{key}/" + e.Name + e.Ending, load: heavy,
			summary: strings.ToUpper(e.Means[:1]) + e.Means[1:], file: kind, query: with(params...),
			handle: func(c *gin.Context) { s.exportAs(c, e) },
		})
	}
	return out
}

// exportAs answers with a take in a format.
func (s takeRoutes) exportAs(c *gin.Context, e codec.Encoder) {
	pixels, err1 := number(c, "pixels", 1400, 200, 20_000)
	order, err2 := calltree.ParseOrder(c.Query("order"))
	if err2 != nil {
		err2 = badRequest{err2}
	}
	if err := cmp.Or(err1, err2); err != nil {
		s.fail(c, err)
		return
	}
	o, row, k, ok := lensRoutes(s).scoped(c)
	if !ok {
		return
	}
	root, err := rootOf(c, o)
	if err != nil {
		s.fail(c, err)
		return
	}
	t := *o.take
	t.Settings = shown(row.Settings)
	t.Settings.Program, t.Settings.Build, t.Settings.Note = row.Program.Name, row.Build.Name, row.Note
	view := codec.View{
		Take: &t, Tree: o.tree, Cost: k.cost, Rows: k.rows, Scope: k.scope, Shape: shapeOf(c), Focus: c.Query("focus"), Notes: func() ([]codec.Note, error) { return noteRoutes(s).reportNotes(c, row) }, Now: time.Now(),
		Root: root, Order: order, Up: c.Query("up") == "true", Width: int(pixels), Values: c.Query("values") == "true",
		Bounds: codec.Bounds{Rows: mostRowsDrawn, Boxes: mostBoxes, Bytes: mostExport},
	}
	s.export(c, row, e.Type, e.Ending, func(b *bytes.Buffer) error { return e.Encode(b, view) })
}
