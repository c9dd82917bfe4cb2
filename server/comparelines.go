package server

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"entelon/core/compare"
	"entelon/server/api"
)

// compareLines sets the lines of a function's file beside each other.
func (s compareRoutes) compareLines(c *gin.Context) {
	x, err := s.comparison(c)
	if err != nil {
		s.Fail(c, err)
		return
	}
	var row *compare.Row
	name := c.Query("name")
	for i := range x.result.Rows {
		r := &x.result.Rows[i]
		if r.Name == name || row == nil && r.Match != nil && r.Match.Baseline == name {
			row = r
		}
		if r.Name == name {
			break
		}
	}
	if row == nil {
		lensRoutes(s).nothing(c, name)
		return
	}
	files, _, _ := x.result.FileOf(row.Number)
	out := api.CompareLines{Line: [][]uint32{{}, {}}, Text: [][]string{{}, {}}, Self: [][]float64{{}, {}}, Total: [][]float64{{}, {}}}
	var sources [2][]string
	for k, side := range []*compareSide{x.a, x.b} {
		found := sourceText{missing: "in which file it is defined is not known"}
		for i := range side.views {
			if files[k] == "" {
				break
			}
			if found, err = sourceRoutes(s).source(c, side.views[i].Take, side.rows[i], files[k]); err != nil {
				s.Fail(c, err)
				return
			}
			if found.delivered {
				break // a take that brought its source is surest
			}
		}
		sources[k] = found.lines
		out.Sides = append(out.Sides, api.SourceSide{File: files[k], Found: found.found, Delivered: found.delivered, Missing: found.missing})
	}
	lines := x.result.Lines(row.Number, sources)
	out.ByText = lines.ByText
	for k := range out.Sides {
		side := &out.Sides[k]
		side.Name, side.Begin, side.Self, side.Total = lines.Name[k], lines.Begin[k], lines.Unknown[k].Self, lines.Unknown[k].Total
		if side.Name == "" {
			side.Missing = ""
		}
		for _, p := range lines.Pairs {
			cost := p.Cost[k]
			out.Line[k], out.Text[k] = append(out.Line[k], cost.Line), append(out.Text[k], p.Text[k])
			out.Self[k], out.Total[k] = append(out.Self[k], cost.Self), append(out.Total[k], cost.Total)
			out.Largest = max(out.Largest, cost.Total)
		}
	}
	c.JSON(http.StatusOK, out)
}
