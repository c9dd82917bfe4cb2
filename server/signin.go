package server

import (
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"entelon/people"
	"entelon/store"
)

// sessionCookie is the name of the cookie that holds a session's secret.
const sessionCookie = "entelon-session"

// visitor is who asks: a person in a browser, or a program with a token.
type visitor struct {
	person *store.Person
	role   people.Role
	token  bool // by a token, which may not manage people or tokens
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
	// needCollector: a program with a token that may collect.
	needCollector people.Role = "collector"
)

// admit lets a request through to a route that needs a role.
func (s *Server) admit(needs people.Role, next gin.HandlerFunc) gin.HandlerFunc {
	return func(c *gin.Context) {
		v, err := s.visitorOf(c)
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
			c.AbortWithStatusJSON(http.StatusUnauthorized, ErrorBody{Error: "nobody is signed in", Remedy: "sign in, or send a token"})
			return
		case (needs == needOwner || needs == needPerson) && v.token:
			s.refuse(c, "a token may not do this", "do it in the browser")
			return
		case needs == needCollector:
			if !v.token || !v.role.May(people.Collect) {
				s.refuse(c, "only a collector's token may do this", "start the collector with a token that has the role collect")
				return
			}
		case needs == needOwner && !v.person.Owner:
			s.refuse(c, v.person.Name+" may not manage people", "ask somebody who may")
			return
		case needs != needOwner && needs != needPerson && needs != needCollector && !v.role.May(needs):
			s.refuse(c, fmt.Sprintf("%s has the role %q, and this needs %q", v.person.Name, v.role, needs), "ask somebody who manages people for it")
			return
		}
		next(c)
	}
}

func (s *Server) refuse(c *gin.Context, what, remedy string) {
	c.AbortWithStatusJSON(http.StatusForbidden, ErrorBody{Error: what, Remedy: remedy})
}

// visitorOf finds out who asks; a session or a token that is not known is nobody.
func (s *Server) visitorOf(c *gin.Context) (*visitor, error) {
	if s.store == nil {
		return nil, nil
	}
	if h := c.GetHeader("Authorization"); h != "" {
		secret, ok := strings.CutPrefix(h, "Bearer ")
		if !ok {
			return nil, nil
		}
		t, err := s.store.TokenOf(c.Request.Context(), secret)
		if errors.Is(err, store.ErrNotFound) {
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
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	return &visitor{person: p, role: p.Role}, nil
}

// source is the address that a request comes from.
func source(c *gin.Context) string {
	host, _, err := net.SplitHostPort(c.Request.RemoteAddr)
	if err != nil {
		return c.Request.RemoteAddr
	}
	return host
}

// note writes a line of the audit list; what cannot be noted is not done.
func (s *Server) note(c *gin.Context, what string, detail map[string]string) error {
	name := ""
	if v := who(c); v != nil {
		name = v.person.Name
	}
	return s.store.Note(c.Request.Context(), name, source(c), what, detail)
}

// begin starts a session in the visitor's browser.
func (s *Server) begin(c *gin.Context, p *store.Person, how string) {
	secret, ends, err := s.store.SignIn(c.Request.Context(), p.ID)
	if err != nil {
		s.fail(c, err)
		return
	}
	if err := s.store.Note(c.Request.Context(), p.Name, source(c), "sign-in", map[string]string{"by": how}); err != nil {
		s.fail(c, err)
		return
	}
	s.setCookie(c, secret, int(time.Until(ends).Seconds()))
	c.JSON(http.StatusOK, meOut(&visitor{person: p, role: p.Role}))
}

func (s *Server) setCookie(c *gin.Context, value string, age int) {
	http.SetCookie(c.Writer, &http.Cookie{
		Name: sessionCookie, Value: value, Path: "/", MaxAge: age,
		HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: s.o.TLS,
	})
}

func meOut(v *visitor) MeOut {
	return MeOut{Name: v.person.Name, Role: string(v.role), Owner: v.person.Owner && !v.token, Password: v.person.Hash != ""}
}

func (s *Server) me(c *gin.Context) { c.JSON(http.StatusOK, meOut(who(c))) }

// enter signs in by a link, which works once.
func (s *Server) enter(c *gin.Context) {
	var in EnterIn
	if err := c.ShouldBindJSON(&in); err != nil {
		s.fail(c, badRequest{fmt.Errorf("the link: %w", err)})
		return
	}
	key := "from " + source(c)
	if !s.mayTry(c, key) {
		return
	}
	p, err := s.store.UseLink(c.Request.Context(), in.Link)
	if errors.Is(err, store.ErrNotFound) {
		s.deny(c, "", "this link was used already, or is too old", "ask for a new one; entelon serve --link prints one", key)
		return
	} else if err != nil {
		s.fail(c, err)
		return
	}
	s.begin(c, p, "link")
}

// signIn signs in by name and password.
func (s *Server) signIn(c *gin.Context) {
	var in SignInIn
	if err := c.ShouldBindJSON(&in); err != nil {
		s.fail(c, badRequest{fmt.Errorf("name and password: %w", err)})
		return
	}
	byName, bySource := "name "+in.Name, "from "+source(c)
	if len(in.Name) > 300 || len(in.Password) > 2000 {
		s.fail(c, badRequest{people.ErrName})
		return
	}
	if !s.mayTry(c, byName, bySource) {
		return
	}
	p, err := s.store.PersonNamed(c.Request.Context(), in.Name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		s.fail(c, err)
		return
	}
	kept := ""
	if err == nil && !p.Disabled {
		kept = p.Hash
	}
	s.hashing <- struct{}{} // each takes 64 MiB
	good := people.Check(in.Password, kept)
	<-s.hashing
	if !good {
		s.deny(c, in.Name, "the name or the password is not right", "after some attempts each one more takes longer", byName, bySource)
		return
	}
	if err := s.store.Succeeded(c.Request.Context(), byName, bySource); err != nil {
		s.fail(c, err)
		return
	}
	s.begin(c, p, "password")
}

// mayTry answers who tries too often.
func (s *Server) mayTry(c *gin.Context, keys ...string) bool {
	wait, err := s.store.Wait(c.Request.Context(), keys...)
	if err != nil {
		s.fail(c, err)
		return false
	}
	if wait > 0 {
		after := int(wait.Seconds()) + 1
		c.Header("Retry-After", fmt.Sprint(after))
		c.AbortWithStatusJSON(http.StatusTooManyRequests, ErrorBody{Error: "too many attempts failed", Remedy: fmt.Sprintf("try again in %d s", after)})
		return false
	}
	return true
}

// deny answers an attempt that failed, and notes it.
func (s *Server) deny(c *gin.Context, name, what, remedy string, keys ...string) {
	err := errors.Join(s.store.Failed(c.Request.Context(), keys...), s.store.Note(c.Request.Context(), name, source(c), "sign-in failed", nil))
	if err != nil {
		s.fail(c, err)
		return
	}
	c.AbortWithStatusJSON(http.StatusUnauthorized, ErrorBody{Error: what, Remedy: remedy})
}

func (s *Server) signOut(c *gin.Context) {
	if cookie, err := c.Cookie(sessionCookie); err == nil {
		if err := s.store.SignOut(c.Request.Context(), cookie); err != nil {
			s.fail(c, err)
			return
		}
	}
	s.setCookie(c, "", -1)
	c.Status(http.StatusNoContent)
}

// changeMe changes the visitor's own name or password. Who has a password must
// give it; a new one ends all other sessions.
func (s *Server) changeMe(c *gin.Context) {
	var in ChangeMeIn
	if err := c.ShouldBindJSON(&in); err != nil {
		s.fail(c, badRequest{fmt.Errorf("the change: %w", err)})
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
		key := "name " + v.person.Name
		if !s.mayTry(c, key) {
			return
		}
		s.hashing <- struct{}{}
		right := v.person.Hash == "" || people.Check(in.Before, v.person.Hash)
		var err error
		if right {
			hash, err = people.Hash(in.Password)
		}
		<-s.hashing
		if !right {
			s.deny(c, v.person.Name, "the password that it had is not right", "", key)
			return
		}
		if err != nil {
			s.fail(c, badRequest{err})
			return
		}
	}
	p, err := s.store.ChangePerson(c.Request.Context(), v.person.ID, func(p *store.Person) {
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
	if hash != "" {
		s.begin(c, p, "a new password")
		return
	}
	c.JSON(http.StatusOK, meOut(&visitor{person: p, role: p.Role}))
}
