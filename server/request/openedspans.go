package request

import (
	"context"

	"github.com/gin-gonic/gin"

	"entelon/core/scope"
	"entelon/core/spans"
	"entelon/server/keep"
)

// SpansIn returns the spans of a take that a scope holds, by name, which are gathered when they are first
// asked for.
func (s *Server) SpansIn(c *gin.Context, o *Opened, sc scope.Scope) (*spans.Index, error) {
	expect := int64(o.Take.Profile.Intervals.Len()) * 8
	x, err := s.Keep.GetOver(c.Request.Context(), o.item, keySpans+o.item.Key()+" "+sc.String(), expect, func(context.Context, *keep.Item) (any, int64, error) {
		p := o.Take.Profile
		x := spans.New(p)
		if !sc.All() {
			x = x.In(sc.Select(p.OfIntervals()))
		}
		return x, x.Bytes(), nil
	})
	if err != nil {
		return nil, err
	}
	Holding(c).Add(x)
	return x.Value().(*spans.Index), nil
}
