package request

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"strings"

	"github.com/gin-gonic/gin"

	"entelon/server/api"
	"entelon/store/accounts"
)

// Attempts that fail are slowed down by name and by address apart: guessing one
// name from many places, and many names from one place. A browser in which that
// very person signed in before has a limit of its own, so that who guesses keeps
// nobody out who has been here.
const (
	freeByName    = 5
	freeByAddress = 20 // several people share one
	freeByDevice  = 10
)

// deviceCookie is the name of the cookie by which a browser is known again.
const deviceCookie = "entelon-browser"

// client is the address that a request comes from. Behind a proxy that the
// operator named, it is what the proxy says, in the header that the operator
// named: the last address in it, which the proxy itself has added.
func (s SignInRoutes) client(c *gin.Context) string {
	host, _, err := net.SplitHostPort(c.Request.RemoteAddr)
	if err != nil {
		return c.Request.RemoteAddr
	}
	if s.Options.ProxyHeader == "" || !s.isProxy(host) {
		return host
	}
	list := strings.Split(strings.Join(c.Request.Header.Values(s.Options.ProxyHeader), ","), ",")
	last := strings.TrimSpace(list[len(list)-1])
	if a, err := netip.ParseAddr(strings.Trim(last, "[]")); err == nil {
		return a.Unmap().String()
	}
	return host
}

func (s SignInRoutes) isProxy(host string) bool {
	a, err := netip.ParseAddr(host)
	if err != nil {
		return false
	}
	a = a.Unmap()
	if a.IsLoopback() {
		return true
	}
	for _, p := range s.Options.Proxies {
		if p.Contains(a) {
			return true
		}
	}
	return false
}

// ByAddress is the limit of an address; of IPv6 a network of 64 bits is one,
// since its owner has as many addresses as they like.
func (s SignInRoutes) ByAddress(c *gin.Context) accounts.Limit {
	host := s.client(c)
	if a, err := netip.ParseAddr(host); err == nil && a.Is6() {
		if p, err := a.WithZone("").Prefix(64); err == nil {
			host = p.String()
		}
	}
	return accounts.Limit{Key: "from " + host, Free: freeByAddress}
}

// byName is the limit of a name. Names fall into 65536 classes, so that names
// that are made up do not fill the database.
func byName(name string) accounts.Limit {
	sum := sha256.Sum256([]byte(name))
	return accounts.Limit{Key: "name " + hex.EncodeToString(sum[:2]), Free: freeByName}
}

// MayTry counts an attempt, or answers who tries too often.
func (s SignInRoutes) MayTry(c *gin.Context, limits ...accounts.Limit) bool {
	wait, err := s.Store.Try(c.Request.Context(), limits...)
	if err != nil {
		s.Fail(c, err)
		return false
	}
	if wait > 0 {
		after := int(wait.Seconds()) + 1
		c.Header("Retry-After", fmt.Sprint(after))
		c.AbortWithStatusJSON(http.StatusTooManyRequests, api.ErrorBody{Error: "too many attempts failed", Remedy: fmt.Sprintf("try again in %d s", after)})
		return false
	}
	return true
}

// Succeeded forgets the attempts of a visitor, and of an address that others may
// share the last one.
func (s SignInRoutes) Succeeded(c *gin.Context, limits ...accounts.Limit) error {
	for _, l := range limits {
		var err error
		if strings.HasPrefix(l.Key, "from ") {
			err = s.Store.TakeBack(c.Request.Context(), l.Key)
		} else {
			err = s.Store.Succeeded(c.Request.Context(), l.Key)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Deny answers an attempt that failed, and notes it.
func (s SignInRoutes) Deny(c *gin.Context, name, what, remedy string) {
	if err := s.Store.Note(c.Request.Context(), name, s.client(c), "sign-in failed", nil); err != nil {
		s.Fail(c, err)
		return
	}
	c.AbortWithStatusJSON(http.StatusUnauthorized, api.ErrorBody{Error: what, Remedy: remedy})
}

// hash waits for its turn to check or make a password, each of which takes
// 64 MiB. Who does not wait any more has none.
func (s SignInRoutes) hash(ctx context.Context, work func()) error {
	select {
	case s.Hashing <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() { <-s.Hashing }()
	work()
	return nil
}

// limitsOf are the limits under which somebody tries to sign in by name.
func (s SignInRoutes) limitsOf(c *gin.Context, name string, p *accounts.Person) ([]accounts.Limit, error) {
	if secret, err := c.Cookie(deviceCookie); err == nil && secret != "" && p != nil {
		known, err := s.Store.KnownDevice(c.Request.Context(), p.ID, secret)
		if err != nil {
			return nil, err
		}
		if known {
			return []accounts.Limit{{Key: fmt.Sprintf("browser of %d", p.ID), Free: freeByDevice}}, nil
		}
	}
	return []accounts.Limit{byName(name), s.ByAddress(c)}, nil
}
