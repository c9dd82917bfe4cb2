package server

import (
	"bytes"
	"cmp"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"entelon/codec/picture"
	"entelon/codec/report"
	"entelon/codec/stacks"
	"entelon/core/measure"
	"entelon/core/tree"
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
func (s *Server) export(c *gin.Context, row *store.Take, kind, ending string, write func(*bytes.Buffer) error) {
	var b bytes.Buffer
	if err := write(&b); err != nil {
		s.fail(c, err)
		return
	}
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", fileName(row, ending)))
	c.Data(http.StatusOK, kind, b.Bytes())
}

func (s *Server) exportPicture(c *gin.Context) {
	pixels, err1 := number(c, "pixels", 1400, 200, 20_000)
	order, err2 := tree.ParseOrder(c.Query("order"))
	if err2 != nil {
		err2 = badRequest{err2}
	}
	if err := cmp.Or(err1, err2); err != nil {
		s.fail(c, err)
		return
	}
	o, row, k, ok := s.scoped(c)
	if !ok {
		return
	}
	root, err := rootOf(c, o)
	if err != nil {
		s.fail(c, err)
		return
	}
	words := o.tree.Profile.Words(k.measure)
	title := fmt.Sprintf("%s of %s build %s", words.Label, row.Program.Name, row.Build.Name)
	if !k.scope.All() {
		title += ", only where " + k.scope.String()
	}
	l := o.tree.Layout(k.cost, tree.LayoutOptions{Root: root, MinWidth: max(1, k.cost.Total(root)/pixels), Order: order, Rows: mostRowsDrawn, Boxes: mostBoxes})
	hundred := fmt.Sprintf("%s · %d samples", measure.Amount(k.cost.Total(root), words.Unit), k.cost.TotalSamples(root))
	s.export(c, row, "image/svg+xml", ".svg", func(b *bytes.Buffer) error {
		return picture.Write(b, o.tree, k.cost, l, words.Unit, picture.Options{Width: int(pixels), Title: title, Hundred: hundred, Up: c.Query("up") == "true", Focus: c.Query("focus")})
	})
}

func (s *Server) exportTable(c *gin.Context) {
	o, row, k, ok := s.scoped(c)
	if !ok {
		return
	}
	s.export(c, row, "text/csv; charset=utf-8", ".csv", func(b *bytes.Buffer) error { return report.Table(b, o.tree.Profile, k.cost, k.rows()) })
}

func (s *Server) exportStacks(c *gin.Context) {
	o, row, k, ok := s.scoped(c)
	if !ok {
		return
	}
	s.export(c, row, "text/plain; charset=utf-8", ".stacks.txt", func(b *bytes.Buffer) error {
		return stacks.WriteTree(b, o.tree, k.cost, stacks.Options{Values: c.Query("values") == "true", Most: mostExport})
	})
}

// mostExport bounds a file of stacks, in bytes.
const mostExport = 64 << 20

func (s *Server) exportReport(c *gin.Context) {
	o, row, k, ok := s.scoped(c)
	if !ok {
		return
	}
	t := *o.take
	t.Settings = shown(row.Settings)
	t.Settings.Program, t.Settings.Build, t.Settings.Note = row.Program.Name, row.Build.Name, row.Note
	notes, err := s.reportNotes(c, row)
	if err != nil {
		s.fail(c, err)
		return
	}
	s.export(c, row, "text/html; charset=utf-8", ".html", func(b *bytes.Buffer) error {
		return report.Write(b, report.View{Take: &t, Tree: o.tree, Cost: k.cost, Rows: k.rows(), Scope: k.scope.String(), Shape: shapeOf(c), Focus: c.Query("focus"), Notes: notes, Now: time.Now()})
	})
}
