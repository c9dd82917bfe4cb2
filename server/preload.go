package server

import (
	"context"
	"strings"

	"github.com/gin-gonic/gin"

	"entelon/people"
	"entelon/server/request"
)

// ahead opens the take that a page will ask for as soon as its address is known:
// that takes about as long as the page needs to begin. What goes wrong here goes
// wrong again when the page asks, and is told there.
func (s pageRoutes) ahead(c *gin.Context) {
	key, isTake := strings.CutPrefix(c.Request.URL.Path, "/takes/")
	if !isTake || key == "" || strings.ContainsRune(key, '/') || strings.HasPrefix(key, request.JobPrefix) {
		return
	}
	if v, err := request.SignInRoutes(s).VisitorOf(c); err != nil || v == nil || !v.Role.May(people.Look) {
		return
	}
	later := c.Copy()
	later.Request = c.Request.Clone(context.WithoutCancel(c.Request.Context()))
	go func() {
		defer func() { // as a request has it
			if r := recover(); r != nil {
				s.Options.Log.Error("opening a take ahead of its page", "take", key, "panic", r)
			}
		}()
		h := &request.Held{}
		later.Set(request.HeldKey, h)
		defer h.Release()
		o, row, err := s.Open(later, key)
		if err != nil {
			return
		}
		if m, err := request.MeasureOf(later, o.Take.Profile); err == nil {
			if sc, err := request.ScopeOf(later); err == nil {
				o.Cost(m, sc.Of(request.AboutOf(row)))
			}
		}
	}()
}
