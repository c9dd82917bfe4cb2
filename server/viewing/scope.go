package viewing

import (
	"errors"
	"math"
	"net/http"

	"github.com/gin-gonic/gin"

	"entelon/core/scope"
	"entelon/server/api"
	"entelon/server/request"
)

// Scope reads an expression for the scope line: its conditions as words, or what
// is wrong with it and where.
func (s LensRoutes) Scope(c *gin.Context) {
	out := api.ScopeOut{Parts: []api.ScopePart{}, Absent: []string{}}
	sc, err := scope.Parse(c.Query("scope"))
	var wrong *scope.SyntaxError
	if errors.As(err, &wrong) {
		out.Error, out.At, out.Correction = wrong.Problem, wrong.At, wrong.Correction
		c.JSON(http.StatusOK, out)
		return
	}
	if err != nil {
		s.Fail(c, request.Bad(err))
		return
	}
	o, row, err := s.Open(c, c.Param("key"))
	if err != nil {
		s.Fail(c, err)
		return
	}
	sc = sc.Of(request.AboutOf(row))
	out.Text = sc.String()
	for _, p := range sc.Parts() {
		texts := p.Texts
		if texts == nil {
			texts = []string{}
		}
		out.Parts = append(out.Parts, api.ScopePart{Text: p.Text, Field: p.Field, Not: p.Not, FromNS: p.From, ToNS: p.To, Texts: texts})
	}
	if !sc.All() {
		out.Absent = o.Names().Absent(sc)
	}
	c.JSON(http.StatusOK, out)
}

// Complete proposes how an expression may go on.
func (s LensRoutes) Complete(c *gin.Context) {
	at, err := request.Number(c, "at", 0, 0, math.MaxInt32)
	if err != nil {
		s.Fail(c, err)
		return
	}
	o, _, err := s.Open(c, c.Param("key"))
	if err != nil {
		s.Fail(c, err)
		return
	}
	out := api.CompleteOut{Proposals: []api.ScopeProposal{}}
	if text := c.Query("text"); len(text) <= 4096 {
		for _, p := range o.Names().Complete(text, int(at)) {
			out.Proposals = append(out.Proposals, api.ScopeProposal(p))
		}
	}
	c.JSON(http.StatusOK, out)
}
