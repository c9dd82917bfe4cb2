package request

import (
	"fmt"
	"math"
	"strconv"
	"time"
	"unicode/utf8"

	"github.com/gin-gonic/gin"

	"entelon/core/profile"
	"entelon/core/scope"
	"entelon/store"
)

// ScopeOf reads the part of a take that counts.
func ScopeOf(c *gin.Context) (scope.Scope, error) {
	sc, err := scope.Parse(c.Query("scope"))
	if err != nil {
		return sc, badRequest{fmt.Errorf("scope: %w", err)}
	}
	from, err := Number(c, "from", 0, 0, math.MaxInt64)
	if err != nil {
		return scope.Scope{}, err
	}
	to, err := Number(c, "to", 0, 0, math.MaxInt64)
	if err == nil && to > 0 && to <= from {
		err = badRequest{fmt.Errorf("the time ends at %d, before it begins at %d", to, from)}
	}
	return sc.And(scope.Between(from, to)), err
}

// AboutOf is what a take's profile does not know.
func AboutOf(row *store.Take) scope.About {
	about := scope.About{Program: row.Program.Name, Build: row.Build.Name}
	if row.Workload != nil {
		about.Workload = row.Workload.Name
	}
	return about
}

// MeasureOf reads which measure counts.
func MeasureOf(c *gin.Context, p *profile.Profile) (int, error) {
	m, err := p.MeasureNamed(c.Query("measure"))
	if err != nil {
		return 0, badRequest{err}
	}
	return m, nil
}

// Number reads a whole number from the query; absent is otherwise.
func Number(c *gin.Context, name string, otherwise, least, most int64) (int64, error) {
	text, ok := c.GetQuery(name)
	if !ok || text == "" {
		return otherwise, nil
	}
	v, err := strconv.ParseInt(text, 10, 64)
	if err != nil || v < least || v > most {
		return 0, badRequest{fmt.Errorf("%s=%q: give a whole number from %d to %d", name, text, least, most)}
	}
	return v, nil
}

// Cut shortens a text at the beginning of a character.
func Cut(text string, most int) string {
	if len(text) <= most {
		return text
	}
	for most > 0 && !utf8.RuneStart(text[most]) {
		most--
	}
	return text[:most] + "…"
}

// HereWithin is how long ago a collector was heard of that is there.
const HereWithin = 30 * time.Second

// IDOf reads the number in a route's path.
func IDOf(c *gin.Context) (int64, error) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return 0, Bad(fmt.Errorf("%q is not a number", c.Param("id")))
	}
	return id, nil
}
