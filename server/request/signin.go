package request

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

// SignInRoutes answers for who asks, what he may, and how he is let in.
type SignInRoutes struct{ *Server }

// sessionCookie is the name of the cookie that holds a session's secret.
const sessionCookie = "entelon-session"

// collectorScheme is how a collector's requests begin their Authorization.
const collectorScheme = "Collector "

// visitor is who asks: a person in a browser, a program with a person's token,
// or a collector, which is nobody's and has no role.
type visitor struct {
	Person    *accounts.Person
	Role      people.Role
	token     bool   // by a token, which may not manage people or tokens
	Collector string // its name; person is nil
}

// name is who is written down for what the visitor does.
func (v *visitor) name() string {
	switch {
	case v == nil:
		return ""
	case v.Person == nil:
		return "collector " + v.Collector
	}
	return v.Person.Name
}

const visitorKey = "visitor"

// Who returns the visitor of a request, nil for nobody.
func Who(c *gin.Context) *visitor {
	v, _ := c.Get(visitorKey)
	x, _ := v.(*visitor)
	return x
}

// Needs of a route beyond the roles.
const (
	NeedNothing people.Role = "nothing" // open to everybody; a route that says nothing at all is open to nobody
	NeedOwner   people.Role = "owner"   // may manage people, in a browser
	NeedPerson  people.Role = "self"    // somebody in a browser
	// needCollector: a collector that has proved its key.
	NeedCollector people.Role = "collector"
)

// Admit lets a request through to a route: it bounds the body, finds out who
// asks, and writes down what was changed.
func (s SignInRoutes) Admit(r Route) gin.HandlerFunc {
	most, needs := r.Most, r.Needs
	if most == 0 {
		most = smallBody
	}
	return func(c *gin.Context) {
		pace(c, r.Load)
		if !r.Octets {
			c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, most)
		}
		leaveDoor := s.turn(c, door)
		if leaveDoor == nil {
			return
		}
		v, err := s.VisitorOf(c)
		leaveDoor()
		if err != nil {
			s.Fail(c, err)
			return
		}
		if v != nil {
			c.Set(visitorKey, v)
		}
		switch {
		case needs == NeedNothing:
		case v == nil:
			c.Header("WWW-Authenticate", "Bearer")
			c.AbortWithStatusJSON(http.StatusUnauthorized, api.ErrorBody{Error: "nobody is signed in", Remedy: "sign in, or send a token"})
			return
		case needs == NeedCollector:
			if v.Collector == "" {
				s.Refuse(c, "only a collector may do this", "enrol one with a link from the Machines page")
				return
			}
		case v.Collector != "":
			s.Refuse(c, "a collector may not do this", "sign in, or send a person's token")
			return
		case (needs == NeedOwner || needs == NeedPerson) && v.token:
			s.Refuse(c, "a token may not do this", "do it in the browser")
			return
		case needs == NeedOwner && !v.Person.Owner:
			s.Refuse(c, v.Person.Name+" may not manage people", "ask somebody who may")
			return
		case needs != NeedOwner && needs != NeedPerson && !v.Role.May(needs):
			s.Refuse(c, fmt.Sprintf("%s has the role %q, and this needs %q", v.Person.Name, v.Role, needs), "ask somebody who manages people for it")
			return
		}
		leave := s.turn(c, r.Load)
		if leave == nil {
			return
		}
		defer leave()
		mine := &Held{}
		c.Set(HeldKey, mine)
		defer mine.Release()
		r.Handle(c)
		if r.Audit != "" && c.Writer.Status() < 300 {
			detail := map[string]string{}
			for _, p := range c.Params {
				detail[p.Key] = Cut(p.Value, 400)
			}
			if err := s.Note(c, r.Audit, detail); err != nil {
				s.Options.Log.Error("what was done could not be written down", "what", r.Audit, "who", Who(c).name(), "error", err)
			}
		}
	}
}

// Refuse tells somebody who may not do what they asked for.
func (s SignInRoutes) Refuse(c *gin.Context, what, remedy string) {
	c.AbortWithStatusJSON(http.StatusForbidden, api.ErrorBody{Error: what, Remedy: remedy})
}

// VisitorOf finds out who asks; a session or a token that is not known is nobody.
func (s SignInRoutes) VisitorOf(c *gin.Context) (*visitor, error) {
	if s.Store == nil {
		return nil, nil
	}
	if h := c.GetHeader("Authorization"); h != "" {
		if secret, ok := strings.CutPrefix(h, collectorScheme); ok {
			name, err := s.Store.CollectorOf(c.Request.Context(), secret)
			if errors.Is(err, database.ErrNotFound) {
				return nil, nil
			}
			return &visitor{Collector: name}, err
		}
		secret, ok := strings.CutPrefix(h, "Bearer ")
		if !ok {
			return nil, nil
		}
		t, err := s.Store.TokenOf(c.Request.Context(), secret)
		if errors.Is(err, database.ErrNotFound) {
			return nil, nil
		} else if err != nil {
			return nil, err
		}
		return &visitor{Person: &t.Person, Role: people.Least(t.Role, t.Person.Role), token: true}, nil
	}
	cookie, err := c.Cookie(sessionCookie)
	if err != nil || cookie == "" {
		return nil, nil
	}
	p, err := s.Store.SignedIn(c.Request.Context(), cookie)
	if errors.Is(err, database.ErrNotFound) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	return &visitor{Person: p, Role: p.Role}, nil
}

// Note writes a line of the audit list; what cannot be noted is not done.
func (s SignInRoutes) Note(c *gin.Context, what string, detail map[string]string) error {
	return s.Store.Note(c.Request.Context(), Who(c).name(), s.client(c), what, detail)
}

// begin starts a session in the visitor's browser.
func (s SignInRoutes) begin(c *gin.Context, p *accounts.Person, how string) {
	secret, ends, err := s.Store.SignIn(c.Request.Context(), p.ID)
	if err != nil {
		s.Fail(c, err)
		return
	}
	known, _ := c.Cookie(deviceCookie) // none is ""
	device, lasts, err := s.Store.RememberDevice(c.Request.Context(), p.ID, known)
	if err == nil {
		err = s.Store.Note(c.Request.Context(), p.Name, s.client(c), "sign-in", map[string]string{"by": how})
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	s.setCookie(c, sessionCookie, secret, int(time.Until(ends).Seconds()))
	s.setCookie(c, deviceCookie, device, int(lasts.Seconds()))
	c.JSON(http.StatusOK, meOut(&visitor{Person: p, Role: p.Role}))
}

func (s SignInRoutes) setCookie(c *gin.Context, name, value string, age int) {
	http.SetCookie(c.Writer, &http.Cookie{
		Name: name, Value: value, Path: "/", MaxAge: age,
		HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: s.Options.TLS,
	})
}

func meOut(v *visitor) api.MeOut {
	return api.MeOut{Name: v.Person.Name, Role: string(v.Role), Owner: v.Person.Owner && !v.token, Password: v.Person.Hash != ""}
}

// Me tells who asks.
func (s SignInRoutes) Me(c *gin.Context) { c.JSON(http.StatusOK, meOut(Who(c))) }

// Enter signs in by a link, which works once.
func (s SignInRoutes) Enter(c *gin.Context) {
	var in api.EnterIn
	if err := s.Read(c, &in, "the link"); err != nil {
		s.Fail(c, err)
		return
	}
	from := s.ByAddress(c)
	if !s.MayTry(c, from) {
		return
	}
	p, err := s.Store.UseLink(c.Request.Context(), in.Link)
	if errors.Is(err, database.ErrNotFound) {
		s.Deny(c, "", "this link was used already, or is too old", "ask for a new one; entelon person link NAME prints one")
		return
	}
	if err == nil {
		err = s.Succeeded(c, from)
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	s.begin(c, p, "link")
}

// SignIn signs in by name and password.
func (s SignInRoutes) SignIn(c *gin.Context) {
	var in api.SignInIn
	if err := s.Read(c, &in, "name and password"); err != nil {
		s.Fail(c, err)
		return
	}
	if len(in.Name) > 300 || len(in.Password) > 2000 {
		s.Fail(c, badRequest{people.ErrName})
		return
	}
	p, err := s.Store.PersonNamed(c.Request.Context(), in.Name)
	kept := ""
	switch {
	case errors.Is(err, database.ErrNotFound):
		p = nil
	case err != nil:
		s.Fail(c, err)
		return
	case !p.Disabled:
		kept = p.Hash
	}
	limits, err := s.limitsOf(c, in.Name, p)
	if err != nil {
		s.Fail(c, err)
		return
	}
	if !s.MayTry(c, limits...) {
		return
	}
	good := false
	if err = s.hash(c.Request.Context(), func() { good = people.Check(in.Password, kept) }); err == nil && !good {
		s.Deny(c, in.Name, "the name or the password is not right", "after some attempts each one more takes longer")
		return
	}
	if err == nil {
		err = s.Succeeded(c, limits...)
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	s.begin(c, p, "password")
}

// SignOut ends the session.
func (s SignInRoutes) SignOut(c *gin.Context) {
	if cookie, err := c.Cookie(sessionCookie); err == nil {
		if err := s.Store.SignOut(c.Request.Context(), cookie); err != nil {
			s.Fail(c, err)
			return
		}
	}
	s.setCookie(c, sessionCookie, "", -1)
	c.Status(http.StatusNoContent)
}

// ChangeMe changes the visitor's own name or password. Who has a password must
// give it; a new one ends all other
// sessions, and all tokens if asked.
func (s SignInRoutes) ChangeMe(c *gin.Context) {
	var in api.ChangeMeIn
	if err := s.Read(c, &in, "the change"); err != nil {
		s.Fail(c, err)
		return
	}
	v := Who(c)
	if in.Name != "" {
		if err := people.CheckName(in.Name); err != nil {
			s.Fail(c, badRequest{err})
			return
		}
	}
	hash := ""
	if in.Password != "" {
		limits := []accounts.Limit{byName(v.Person.Name)}
		if !s.MayTry(c, limits...) {
			return
		}
		right := false
		var err error
		late := s.hash(c.Request.Context(), func() {
			if right = v.Person.Hash == "" || people.Check(in.Before, v.Person.Hash); right {
				hash, err = people.Hash(in.Password)
			}
		})
		if late != nil {
			s.Fail(c, late)
			return
		}
		if !right {
			s.Deny(c, v.Person.Name, "the password that it had is not right", "")
			return
		}
		if err == nil {
			err = s.Succeeded(c, limits...)
		}
		if err != nil {
			s.Fail(c, badRequest{err})
			return
		}
	}
	p, err := s.Store.ChangePerson(c.Request.Context(), v.Person.ID, func(p *accounts.Person) {
		if in.Name != "" {
			p.Name = in.Name
		}
		if hash != "" {
			p.Hash = hash
		}
	})
	if err != nil {
		s.Fail(c, err)
		return
	}
	if hash != "" && in.EndTokens {
		if err := s.Store.RemoveTokens(c.Request.Context(), p.ID); err != nil {
			s.Fail(c, err)
			return
		}
	}
	if hash != "" {
		s.begin(c, p, "a new password")
		return
	}
	c.JSON(http.StatusOK, meOut(&visitor{Person: p, Role: p.Role}))
}
