package request

import (
	"context"

	"github.com/gin-gonic/gin"

	"entelon/core/lanes"
	"entelon/core/scope"
	"entelon/server/keep"
)

// LanesIn returns a take laid out over time, and which lanes have something in a scope, which is found
// out when it is first asked for.
func (s *Server) LanesIn(c *gin.Context, o *Opened, sc scope.Scope) (x *lanes.Index, shown []int, err error) {
	if x, err = s.Lanes(c, o); err != nil {
		return nil, nil, err
	}
	if sc.All() {
		return x, x.InScope(sc), nil
	}
	in, err := s.Keep.GetOver(c.Request.Context(), o.item, keyLanes+o.item.Key()+" "+sc.String(), int64(len(x.Lanes))*8, func(context.Context, *keep.Item) (any, int64, error) {
		in := x.InScope(sc)
		return in, int64(cap(in)) * 8, nil
	})
	if err != nil {
		return nil, nil, err
	}
	Holding(c).Add(in)
	return x, in.Value().([]int), nil
}

// Lanes returns a take laid out over time, which is done when it is first asked for, once, however
// many ask.
func (s *Server) Lanes(c *gin.Context, o *Opened) (*lanes.Index, error) {
	expect := int64(o.Take.Profile.Intervals.Len()) * 21
	x, err := s.Keep.GetOver(c.Request.Context(), o.item, keyLanes+o.item.Key(), expect, func(context.Context, *keep.Item) (any, int64, error) {
		x := lanes.New(o.Take)
		return x, x.Bytes(), nil
	})
	if err != nil {
		return nil, err
	}
	Holding(c).Add(x)
	return x.Value().(*lanes.Index), nil
}
