package server

import (
	"context"
	"strings"

	"github.com/gin-gonic/gin"

	"entelon/people"
)

// ahead opens the take that a page will ask for as soon as its address is known:
// that takes about as long as the page needs to begin. What goes wrong here goes
// wrong again when the page asks, and is told there.
func (s pageRoutes) ahead(c *gin.Context) {
	key, isTake := strings.CutPrefix(c.Request.URL.Path, "/takes/")
	if !isTake || key == "" || strings.ContainsRune(key, '/') || strings.HasPrefix(key, jobPrefix) {
		return
	}
	if v, err := signInRoutes(s).visitorOf(c); err != nil || v == nil || !v.role.May(people.Look) {
		return
	}
	later := c.Copy()
	later.Request = c.Request.Clone(context.WithoutCancel(c.Request.Context()))
	go func() {
		defer func() { // as a request has it
			if r := recover(); r != nil {
				s.o.Log.Error("opening a take ahead of its page", "take", key, "panic", r)
			}
		}()
		h := &held{}
		later.Set(heldKey, h)
		defer h.release()
		o, row, err := s.open(later, key)
		if err != nil {
			return
		}
		if m, err := measureOf(later, o.take.Profile); err == nil {
			if sc, err := scopeOf(later); err == nil {
				o.cost(m, sc.Of(aboutOf(row)))
			}
		}
	}()
}
