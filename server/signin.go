package server

import (
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"entelon/people"
	"entelon/server/api"
	"entelon/store/accounts"
	"entelon/store/database"
)

// signInRoutes answers for who asks, what he may, and how he is let in.
type signInRoutes struct{ *Server }

// sessionCookie is the name of the cookie that holds a session's secret.
const sessionCookie = "entelon-session"

// collectorScheme is how a collector's requests begin their Authorization.
const collectorScheme = "Collector "

// visitor is who asks: a person in a browser, a program with a person's token,
// or a collector, which is nobody's and has no role.
type visitor struct {
	person    *accounts.Person
	role      people.Role
	token     bool   // by a token, which may not manage people or tokens
	collector string // its name; person is nil
}

// name is who is written down for what the visitor does.
func (v *visitor) name() string {
	switch {
	case v == nil:
		return ""
	case v.person == nil:
		return "collector " + v.collector
	}
	return v.person.Name
}

const visitorKey = "visitor"

// who returns the visitor of a request, nil for nobody.
func who(c *gin.Context) *visitor {
	v, _ := c.Get(visitorKey)
	x, _ := v.(*visitor)
	return x
}

// Needs of a route beyond the roles.
const (
	needNothing people.Role = "nothing" // open to everybody; a route that says nothing at all is open to nobody
	needOwner   people.Role = "owner"   // may manage people, in a browser
	needPerson  people.Role = "self"    // somebody in a browser
	// needCollector: a collector that has proved its key.
	needCollector people.Role = "collector"
)

// admit lets a request through to a route: it bounds the body, finds out who
// asks, and writes down what was changed.
func (s signInRoutes) admit(r route) gin.HandlerFunc {
	most, needs := r.most, r.needs
	if most == 0 {
		most = smallBody
	}
	return func(c *gin.Context) {
		pace(c, r.load)
		if !r.octets {
			c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, most)
		}
		leaveDoor := s.turn(c, door)
		if leaveDoor == nil {
			return
		}
		v, err := s.visitorOf(c)
		leaveDoor()
		if err != nil {
			s.fail(c, err)
			return
		}
		if v != nil {
			c.Set(visitorKey, v)
		}
		switch {
		case needs == needNothing:
		case v == nil:
			c.Header("WWW-Authenticate", "Bearer")
			c.AbortWithStatusJSON(http.StatusUnauthorized, api.ErrorBody{Error: "nobody is signed in", Remedy: "sign in, or send a token"})
			return
		case needs == needCollector:
			if v.collector == "" {
				s.refuse(c, "only a collector may do this", "enrol one with a link from the Machines page")
				return
			}
		case v.collector != "":
			s.refuse(c, "a collector may not do this", "sign in, or send a person's token")
			return
		case (needs == needOwner || needs == needPerson) && v.token:
			s.refuse(c, "a token may not do this", "do it in the browser")
			return
		case needs == needOwner && !v.person.Owner:
			s.refuse(c, v.person.Name+" may not manage people", "ask somebody who may")
			return
		case needs != needOwner && needs != needPerson && !v.role.May(needs):
			s.refuse(c, fmt.Sprintf("%s has the role %q, and this needs %q", v.person.Name, v.role, needs), "ask somebody who manages people for it")
			return
		}
		leave := s.turn(c, r.load)
		if leave == nil {
			return
		}
		defer leave()
		mine := &held{}
		c.Set(heldKey, mine)
		defer mine.release()
		r.handle(c)
		if r.audit != "" && c.Writer.Status() < 300 {
			detail := map[string]string{}
			for _, p := range c.Params {
				detail[p.Key] = cut(p.Value, 400)
			}
			if err := s.note(c, r.audit, detail); err != nil {
				s.o.Log.Error("what was done could not be written down", "what", r.audit, "who", who(c).name(), "error", err)
			}
		}
	}
}

func (s signInRoutes) refuse(c *gin.Context, what, remedy string) {
	c.AbortWithStatusJSON(http.StatusForbidden, api.ErrorBody{Error: what, Remedy: remedy})
}

// visitorOf finds out who asks; a session or a token that is not known is nobody.
func (s signInRoutes) visitorOf(c *gin.Context) (*visitor, error) {
	if s.store == nil {
		return nil, nil
	}
	if h := c.GetHeader("Authorization"); h != "" {
		if secret, ok := strings.CutPrefix(h, collectorScheme); ok {
			name, err := s.store.CollectorOf(c.Request.Context(), secret)
			if errors.Is(err, database.ErrNotFound) {
				return nil, nil
			}
			return &visitor{collector: name}, err
		}
		secret, ok := strings.CutPrefix(h, "Bearer ")
		if !ok {
			return nil, nil
		}
		t, err := s.store.TokenOf(c.Request.Context(), secret)
		if errors.Is(err, database.ErrNotFound) {
			return nil, nil
		} else if err != nil {
			return nil, err
		}
		return &visitor{person: &t.Person, role: people.Least(t.Role, t.Person.Role), token: true}, nil
	}
	cookie, err := c.Cookie(sessionCookie)
	if err != nil || cookie == "" {
		return nil, nil
	}
	p, err := s.store.SignedIn(c.Request.Context(), cookie)
	if errors.Is(err, database.ErrNotFound) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	return &visitor{person: p, role: p.Role}, nil
}

// note writes a line of the audit list; what cannot be noted is not done.
func (s signInRoutes) note(c *gin.Context, what string, detail map[string]string) error {
	return s.store.Note(c.Request.Context(), who(c).name(), s.client(c), what, detail)
}

// begin starts a session in the visitor's browser.
func (s signInRoutes) begin(c *gin.Context, p *accounts.Person, how string) {
	secret, ends, err := s.store.SignIn(c.Request.Context(), p.ID)
	if err != nil {
		s.fail(c, err)
		return
	}
	known, _ := c.Cookie(deviceCookie) // none is ""
	device, lasts, err := s.store.RememberDevice(c.Request.Context(), p.ID, known)
	if err == nil {
		err = s.store.Note(c.Request.Context(), p.Name, s.client(c), "sign-in", map[string]string{"by": how})
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	s.setCookie(c, sessionCookie, secret, int(time.Until(ends).Seconds()))
	s.setCookie(c, deviceCookie, device, int(lasts.Seconds()))
	c.JSON(http.StatusOK, meOut(&visitor{person: p, role: p.Role}))
}

func (s signInRoutes) setCookie(c *gin.Context, name, value string, age int) {
	http.SetCookie(c.Writer, &http.Cookie{
		Name: name, Value: value, Path: "/", MaxAge: age,
		HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: s.o.TLS,
	})
}

func meOut(v *visitor) api.MeOut {
	return api.MeOut{Name: v.person.Name, Role: string(v.role), Owner: v.person.Owner && !v.token, Password: v.person.Hash != ""}
}

func (s signInRoutes) me(c *gin.Context) { c.JSON(http.StatusOK, meOut(who(c))) }

// enter signs in by a link, which works once.
func (s signInRoutes) enter(c *gin.Context) {
	var in api.EnterIn
	if err := s.read(c, &in, "the link"); err != nil {
		s.fail(c, err)
		return
	}
	from := s.byAddress(c)
	if !s.mayTry(c, from) {
		return
	}
	p, err := s.store.UseLink(c.Request.Context(), in.Link)
	if errors.Is(err, database.ErrNotFound) {
		s.deny(c, "", "this link was used already, or is too old", "ask for a new one; entelon person link NAME prints one")
		return
	}
	if err == nil {
		err = s.succeeded(c, from)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	s.begin(c, p, "link")
}

// signIn signs in by name and password.
func (s signInRoutes) signIn(c *gin.Context) {
	var in api.SignInIn
	if err := s.read(c, &in, "name and password"); err != nil {
		s.fail(c, err)
		return
	}
	if len(in.Name) > 300 || len(in.Password) > 2000 {
		s.fail(c, badRequest{people.ErrName})
		return
	}
	p, err := s.store.PersonNamed(c.Request.Context(), in.Name)
	kept := ""
	switch {
	case errors.Is(err, database.ErrNotFound):
		p = nil
	case err != nil:
		s.fail(c, err)
		return
	case !p.Disabled:
		kept = p.Hash
	}
	limits, err := s.limitsOf(c, in.Name, p)
	if err != nil {
		s.fail(c, err)
		return
	}
	if !s.mayTry(c, limits...) {
		return
	}
	good := false
	if err = s.hash(c.Request.Context(), func() { good = people.Check(in.Password, kept) }); err == nil && !good {
		s.deny(c, in.Name, "the name or the password is not right", "after some attempts each one more takes longer")
		return
	}
	if err == nil {
		err = s.succeeded(c, limits...)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	s.begin(c, p, "password")
}

func (s signInRoutes) signOut(c *gin.Context) {
	if cookie, err := c.Cookie(sessionCookie); err == nil {
		if err := s.store.SignOut(c.Request.Context(), cookie); err != nil {
			s.fail(c, err)
			return
		}
	}
	s.setCookie(c, sessionCookie, "", -1)
	c.Status(http.StatusNoContent)
}

// changeMe changes the visitor's own name or password. Who has a password must
// give it; a new one ends all other
// sessions, and all tokens if asked.
func (s signInRoutes) changeMe(c *gin.Context) {
	var in api.ChangeMeIn
	if err := s.read(c, &in, "the change"); err != nil {
		s.fail(c, err)
		return
	}
	v := who(c)
	if in.Name != "" {
		if err := people.CheckName(in.Name); err != nil {
			s.fail(c, badRequest{err})
			return
		}
	}
	hash := ""
	if in.Password != "" {
		limits := []accounts.Limit{byName(v.person.Name)}
		if !s.mayTry(c, limits...) {
			return
		}
		right := false
		var err error
		late := s.hash(c.Request.Context(), func() {
			if right = v.person.Hash == "" || people.Check(in.Before, v.person.Hash); right {
				hash, err = people.Hash(in.Password)
			}
		})
		if late != nil {
			s.fail(c, late)
			return
		}
		if !right {
			s.deny(c, v.person.Name, "the password that it had is not right", "")
			return
		}
		if err == nil {
			err = s.succeeded(c, limits...)
		}
		if err != nil {
			s.fail(c, badRequest{err})
			return
		}
	}
	p, err := s.store.ChangePerson(c.Request.Context(), v.person.ID, func(p *accounts.Person) {
		if in.Name != "" {
			p.Name = in.Name
		}
		if hash != "" {
			p.Hash = hash
		}
	})
	if err != nil {
		s.fail(c, err)
		return
	}
	if hash != "" && in.EndTokens {
		if err := s.store.RemoveTokens(c.Request.Context(), p.ID); err != nil {
			s.fail(c, err)
			return
		}
	}
	if hash != "" {
		s.begin(c, p, "a new password")
		return
	}
	c.JSON(http.StatusOK, meOut(&visitor{person: p, role: p.Role}))
}
