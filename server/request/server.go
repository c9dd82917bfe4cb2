// Package request is what all areas of the server share: its parts, visitors and their rights,
// in which turn they are answered, what is opened for them, what a request asks of a take, and
// what is told when it cannot be done.
//
// Each request has a goroutine of its own, which owns its Held. Opened takes are shared: a lock
// guards which scopes were asked for last, and of one that grows how far it was read.
package request

import (
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"runtime/debug"
	"strings"
	"sync/atomic"
	"time"

	"github.com/gin-gonic/gin"

	"entelon/server/api"
	"entelon/server/keep"
	"entelon/store"
)

// DefaultMemory is how many bytes everything that is opened or compared may have
// together if nothing else is said.
const DefaultMemory = 1536 << 20

// Options of a server.
type Options struct {
	Version   string
	Web       fs.FS // the built front end; nil serves the API alone
	MaxUpload int64 // bytes of one upload
	Memory    int64 // bytes of everything that is opened, compared or read
	Hosts     []string
	TLS       bool // browsers reach it by https only
	// ProxyHeader is the header in which a proxy before this server, at one of
	// Proxies or on this machine, says where a request comes from; "" for none.
	ProxyHeader string
	Proxies     []netip.Prefix
	Sources     []string        // folders with the source of programs
	MaxDisk     int64           // bytes of all takes together; 0: no limit
	Closing     <-chan struct{} // closed when nobody shall wait for an answer any more; may be nil
	Log         *slog.Logger
}

// Server is an http.Handler.
type Server struct {
	Store   *store.Store
	Options Options
	Keep    *keep.Keep
	Engine  *gin.Engine
	Routes  []Route
	Used    quota
	// silence keeps the log from being filled by one thing that lasts.
	silence silence
	// Hashing bounds how many passwords are checked at a time.
	Hashing chan struct{}
	Began   time.Time
	Gates   gates
	Metrics *metrics
	// Challenges is the secret that challenges are made with, once it is known.
	Challenges atomic.Pointer[[]byte]
	Sources    SourceFolders
}

// Recover turns a panic into an answer and a line in the log.
func (s *Server) Recover(c *gin.Context) {
	defer func() {
		if p := recover(); p != nil {
			s.Options.Log.Error("a request failed", "id", c.GetString(requestKey), "path", c.Request.URL.Path, "panic", fmt.Sprint(p), "stack", string(debug.Stack()))
			c.AbortWithStatusJSON(http.StatusInternalServerError, api.ErrorBody{Error: "the server hit a fault, which is in its log"})
		}
	}()
	c.Next()
}

// Guard answers only those who asked for this server by a name that it has,
// and changes nothing for a page of another site.
func (s *Server) Guard(c *gin.Context) {
	c.Header("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'; object-src 'none'")
	c.Header("X-Content-Type-Options", "nosniff")
	c.Header("Referrer-Policy", "same-origin")
	if s.Options.TLS {
		c.Header("Strict-Transport-Security", "max-age=31536000")
	}
	if err := soundAddress(c.Request.URL); err != nil {
		s.Fail(c, badRequest{err})
		return
	}
	if !s.knownHost(c.Request.Host) {
		c.AbortWithStatusJSON(http.StatusMisdirectedRequest, api.ErrorBody{Error: "this server does not answer to the name " + c.Request.Host, Remedy: "use the address that it printed when it started"})
		return
	}
	if c.Request.Method == http.MethodGet || c.Request.Method == http.MethodHead {
		return
	}
	if o := c.GetHeader("Origin"); o != "" {
		if u, err := url.Parse(o); err != nil || u.Host != c.Request.Host {
			c.AbortWithStatusJSON(http.StatusForbidden, api.ErrorBody{Error: "a page of another site may not change anything here"})
			return
		}
	}
	if site := c.GetHeader("Sec-Fetch-Site"); site == "cross-site" || site == "same-site" {
		c.AbortWithStatusJSON(http.StatusForbidden, api.ErrorBody{Error: "a page of another site may not change anything here"})
	}
}

func (s *Server) knownHost(hostport string) bool {
	host := hostport
	if h, _, err := net.SplitHostPort(hostport); err == nil {
		host = h
	}
	host = strings.Trim(host, "[]")
	if host == "localhost" {
		return true
	}
	if ip := net.ParseIP(host); ip != nil && ip.IsLoopback() {
		return true
	}
	for _, h := range s.Options.Hosts {
		if h == host {
			return true
		}
	}
	return false
}

// ServeHTTP implements http.Handler.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.Engine.ServeHTTP(w, r) }
