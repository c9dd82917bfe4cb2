package server

import (
	"fmt"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"entelon/people"
	"entelon/server/api"
	"entelon/server/request"
	"entelon/store/accounts"
)

// peopleRoutes answers for people and their tokens.
type peopleRoutes struct{ *request.Server }

// linkValid is how long a link for signing in once is good.
const linkValid = 24 * time.Hour

func tokenOut(t accounts.Token) api.TokenOut {
	out := api.TokenOut{ID: t.ID, Name: t.Name, Role: string(t.Role), CreatedAt: t.CreatedAt.UTC().Format(time.RFC3339)}
	if t.UsedAt != nil {
		out.UsedAt = t.UsedAt.UTC().Format(time.RFC3339)
	}
	return out
}

func (s peopleRoutes) tokens(c *gin.Context) {
	list, err := s.Store.Tokens(c.Request.Context(), request.Who(c).Person.ID)
	if err != nil {
		s.Fail(c, err)
		return
	}
	out := api.TokensOut{Tokens: []api.TokenOut{}}
	for _, t := range list {
		out.Tokens = append(out.Tokens, tokenOut(t))
	}
	c.JSON(http.StatusOK, out)
}

func (s peopleRoutes) addToken(c *gin.Context) {
	var in api.TokenIn
	if err := s.Read(c, &in, "the token"); err != nil {
		s.Fail(c, err)
		return
	}
	role, err := roleFor(in.Name, in.Role)
	if err != nil {
		s.Fail(c, err)
		return
	}
	v := request.Who(c)
	if !v.Role.May(role) {
		request.SignInRoutes(s).Refuse(c, fmt.Sprintf("%s has the role %q, so that a token cannot have %q", v.Person.Name, v.Role, role), "choose a role that you have")
		return
	}
	t, secret, err := s.Store.AddToken(c.Request.Context(), v.Person.ID, in.Name, role)
	if err == nil {
		err = request.SignInRoutes(s).Note(c, "token made", map[string]string{"name": in.Name, "role": string(role)})
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	c.JSON(http.StatusCreated, api.NewTokenOut{Token: tokenOut(*t), Secret: secret})
}

// roleFor reads a role that is given to a person or a token with a name.
func roleFor(name, role string) (people.Role, error) {
	r, err := people.ParseRole(role)
	if err == nil {
		err = people.CheckName(name)
	}
	if err != nil {
		return "", request.Bad(err)
	}
	return r, nil
}

func (s peopleRoutes) removeToken(c *gin.Context) {
	id, err := request.IDOf(c)
	if err == nil {
		err = s.Store.RemoveToken(c.Request.Context(), request.Who(c).Person.ID, id)
	}
	if err == nil {
		err = request.SignInRoutes(s).Note(c, "token removed", map[string]string{"id": fmt.Sprint(id)})
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

func personOut(p accounts.Person) api.PersonOut {
	out := api.PersonOut{ID: p.ID, Name: p.Name, Role: string(p.Role), Owner: p.Owner, Disabled: p.Disabled, Password: p.Hash != ""}
	if p.SeenAt != nil {
		out.SeenAt = p.SeenAt.UTC().Format(time.RFC3339)
	}
	return out
}

func (s peopleRoutes) people(c *gin.Context) {
	list, err := s.Store.People(c.Request.Context())
	if err != nil {
		s.Fail(c, err)
		return
	}
	out := api.PeopleOut{People: []api.PersonOut{}}
	for _, p := range list {
		out.People = append(out.People, personOut(p))
	}
	c.JSON(http.StatusOK, out)
}

func (s peopleRoutes) addPerson(c *gin.Context) {
	var in api.PersonIn
	if err := s.Read(c, &in, "the person"); err != nil {
		s.Fail(c, err)
		return
	}
	role, err := roleFor(in.Name, in.Role)
	if err != nil {
		s.Fail(c, err)
		return
	}
	p, err := s.Store.AddPerson(c.Request.Context(), in.Name, role, in.Owner)
	if err == nil {
		err = request.SignInRoutes(s).Note(c, "person added", map[string]string{"name": in.Name, "role": in.Role})
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	s.answerLink(c, *p, http.StatusCreated)
}

// answerLink makes a link for a person and answers with it.
func (s peopleRoutes) answerLink(c *gin.Context, p accounts.Person, status int) {
	secret, err := s.Store.AddLink(c.Request.Context(), p.ID, linkValid)
	if err == nil {
		err = request.SignInRoutes(s).Note(c, "link made", map[string]string{"name": p.Name})
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	c.JSON(status, api.PersonLinkOut{Person: personOut(p), Path: "/enter/" + secret, Hours: linkValid.Hours()})
}

func (s peopleRoutes) changePerson(c *gin.Context) {
	var in api.PersonChangeIn
	id, err := request.IDOf(c)
	if err == nil {
		err = s.Read(c, &in, "the change")
	}
	var role people.Role
	if err == nil && in.Role != nil {
		if role, err = people.ParseRole(*in.Role); err != nil {
			err = request.Bad(err)
		}
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	p, err := s.Store.ChangePerson(c.Request.Context(), id, func(p *accounts.Person) {
		if in.Role != nil {
			p.Role = role
		}
		if in.Owner != nil {
			p.Owner = *in.Owner
		}
		if in.Disabled != nil {
			p.Disabled = *in.Disabled
		}
	})
	if err == nil {
		err = request.SignInRoutes(s).Note(c, "person changed", map[string]string{"name": p.Name, "role": string(p.Role), "owner": fmt.Sprint(p.Owner), "disabled": fmt.Sprint(p.Disabled)})
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	c.JSON(http.StatusOK, personOut(*p))
}

func (s peopleRoutes) linkFor(c *gin.Context) {
	id, err := request.IDOf(c)
	var p *accounts.Person
	if err == nil {
		p, err = s.Store.ChangePerson(c.Request.Context(), id, func(*accounts.Person) {})
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	s.answerLink(c, *p, http.StatusCreated)
}

func (s peopleRoutes) audit(c *gin.Context) {
	limit, err := request.Number(c, "limit", 200, 1, 10_000)
	if err != nil {
		s.Fail(c, err)
		return
	}
	list, err := s.Store.Audit(c.Request.Context(), int(limit))
	if err != nil {
		s.Fail(c, err)
		return
	}
	out := api.AuditOut{Events: []api.EventOut{}}
	for _, e := range list {
		out.Events = append(out.Events, api.EventOut{ID: e.ID, At: e.At.UTC().Format(time.RFC3339), Who: e.Who, Source: e.Source, What: e.What, Detail: e.Detail})
	}
	c.JSON(http.StatusOK, out)
}
