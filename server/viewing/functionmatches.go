package viewing

import (
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"entelon/core/match"
	"entelon/server/api"
	"entelon/server/request"
)

// What is said of two names.
const (
	together = "together"
	apart    = "apart"
)

// MatchRoutes answers for functions that somebody matched by hand.
type MatchRoutes struct{ *request.Server }

// Hand returns what was said by hand of the names of a side's program, and a text
// that is another one for anything else.
func (s MatchRoutes) Hand(c *gin.Context, keys string) (out match.Hand, version string, err error) {
	key, _, _ := strings.Cut(keys, ",")
	if strings.HasPrefix(key, request.JobPrefix) {
		return out, "", nil
	}
	row, err := s.Store.Take(c.Request.Context(), key)
	if err != nil {
		return out, "", fmt.Errorf("candidate: %w", err)
	}
	list, err := s.Store.Matches(c.Request.Context(), row.Program.Name)
	for _, m := range list {
		pair := [2]string{m.Baseline, m.Candidate}
		if m.Together {
			out.Together = append(out.Together, pair)
		} else {
			out.Apart = append(out.Apart, pair)
		}
		version += fmt.Sprintf("%q %q %v ", m.Baseline, m.Candidate, m.Together)
	}
	return out, version, err
}

// Matches answers GET /programs/{name}/matches.
func (s MatchRoutes) Matches(c *gin.Context) {
	list, err := s.Store.Matches(c.Request.Context(), c.Param("name"))
	if err != nil {
		s.Fail(c, err)
		return
	}
	out := api.MatchesOut{Matches: []api.MatchOut{}}
	for _, m := range list {
		x := api.MatchOut{Baseline: m.Baseline, Candidate: m.Candidate, How: apart, Who: m.Who}
		if m.Together {
			x.How = together
		}
		out.Matches = append(out.Matches, x)
	}
	c.JSON(http.StatusOK, out)
}

// SetMatch answers POST /programs/{name}/matches.
func (s MatchRoutes) SetMatch(c *gin.Context) {
	var in api.MatchIn
	err := s.Read(c, &in, "the match")
	switch {
	case err != nil:
	case in.Baseline == "" || in.Candidate == "" || len(in.Baseline)+len(in.Candidate) > 32<<10:
		err = request.Bad(errors.New("the match: name a function of each side"))
	case in.How != "" && in.How != together && in.How != apart:
		err = request.Bad(fmt.Errorf("the match: %q: say together, apart or nothing", in.How))
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	if in.How == "" {
		err = s.Store.ForgetMatch(c.Request.Context(), c.Param("name"), in.Baseline, in.Candidate)
	} else {
		err = s.Store.SetMatch(c.Request.Context(), c.Param("name"), in.Baseline, in.Candidate, request.Who(c).Person.Name, in.How == together)
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	s.Matches(c)
}
