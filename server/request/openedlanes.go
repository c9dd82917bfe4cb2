package request

import (
	"context"

	"github.com/gin-gonic/gin"

	"entelon/core/lanes"
	"entelon/server/keep"
)

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
