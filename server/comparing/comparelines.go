package comparing

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"entelon/core/compare"
	"entelon/server/api"
	"entelon/server/viewing"
)

// CompareLines sets the lines of a function's file beside each other.
func (s CompareRoutes) CompareLines(c *gin.Context) {
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
		viewing.LensRoutes(s).Nothing(c, name)
		return
	}
	files, _, _ := x.result.FileOf(row.Number)
	out := api.CompareLines{Line: [][]uint32{{}, {}}, Text: [][]string{{}, {}}, Self: [][]float64{{}, {}}, Total: [][]float64{{}, {}}}
	var sources [2][]string
	for k, side := range []*compareSide{x.a, x.b} {
		found := viewing.SourceText{Missing: "in which file it is defined is not known"}
		for i := range side.views {
			if files[k] == "" {
				break
			}
			if found, err = viewing.SourceRoutes(s).Source(c, side.views[i].Take, side.rows[i], files[k]); err != nil {
				s.Fail(c, err)
				return
			}
			if found.Delivered {
				break // a take that brought its source is surest
			}
		}
		sources[k] = found.Lines
		out.Sides = append(out.Sides, api.SourceSide{File: files[k], Found: found.Found, Delivered: found.Delivered, Missing: found.Missing})
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
