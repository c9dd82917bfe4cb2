package comparing

import (
	"bytes"
	"time"

	"github.com/gin-gonic/gin"

	"entelon/codec/verdict"
	"entelon/core/compare"
	"entelon/core/statistics"
	"entelon/server/viewing"
)

// compareView is a comparison as it is written for others: with the limit that a
// gate has where nobody has given it one.
func (x *compared) view() verdict.View {
	v := verdict.View{
		Result: x.result, Suspects: x.suspects(), Sides: x.sides(), Takes: [2]int{len(x.a.rows), len(x.b.rows)}, Unit: x.words.Unit, Scope: x.scope,
	}
	v.Outcome, v.Findings = compare.Judge(x.result, compare.Rules{Limits: []compare.Limit{{Rise: statistics.DefaultWorth}}})
	return v
}

func (s CompareRoutes) compareExport(kind, ending string, write func(*bytes.Buffer, verdict.View) error) gin.HandlerFunc {
	return func(c *gin.Context) {
		x, err := s.comparison(c)
		if err != nil {
			s.Fail(c, err)
			return
		}
		viewing.TakeRoutes(s).Export(c, x.b.rows[0], kind, "-compared"+ending, func(b *bytes.Buffer) error { return write(b, x.view()) })
	}
}

// CompareReport answers with a report in one file.
func (s CompareRoutes) CompareReport() gin.HandlerFunc {
	return s.compareExport("text/html; charset=utf-8", ".html", func(b *bytes.Buffer, v verdict.View) error { return verdict.HTML(b, v, time.Now()) })
}

// CompareMarkdown answers with text for a review.
func (s CompareRoutes) CompareMarkdown() gin.HandlerFunc {
	return s.compareExport("text/markdown; charset=utf-8", ".md", func(b *bytes.Buffer, v verdict.View) error { return verdict.Markdown(b, v) })
}
