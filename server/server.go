// Package server answers the web front end and other programs over HTTP. It
// computes nothing itself: it finds takes in the store, asks core, and writes
// down the answers. It keeps no state between requests but a cache of takes.
//
// Each request has a goroutine of its own, and its handlers own what they make. What is
// shared is the store, what is kept in memory (server/keep, behind its own lock) and the
// gates (server/gate); of a take in memory a lock guards which scopes were asked for last, of
// one that grows how far it was read.
package server

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
	store  *store.Store
	o      Options
	keep   *keep.Keep
	engine *gin.Engine
	routes []route
	used   quota
	// silence keeps the log from being filled by one thing that lasts.
	silence silence
	// hashing bounds how many passwords are checked at a time.
	hashing chan struct{}
	began   time.Time
	gates   gates
	metrics *metrics
	// challenges is the secret that challenges are made with, once it is known.
	challenges atomic.Pointer[[]byte]
	sources    sourceFolders
}

// recover turns a panic into an answer and a line in the log.
func (s *Server) recover(c *gin.Context) {
	defer func() {
		if p := recover(); p != nil {
			s.o.Log.Error("a request failed", "id", c.GetString(requestKey), "path", c.Request.URL.Path, "panic", fmt.Sprint(p), "stack", string(debug.Stack()))
			c.AbortWithStatusJSON(http.StatusInternalServerError, api.ErrorBody{Error: "the server hit a fault, which is in its log"})
		}
	}()
	c.Next()
}

// guard answers only those who asked for this server by a name that it has,
// and changes nothing for a page of another site.
func (s *Server) guard(c *gin.Context) {
	c.Header("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'; object-src 'none'")
	c.Header("X-Content-Type-Options", "nosniff")
	c.Header("Referrer-Policy", "same-origin")
	if s.o.TLS {
		c.Header("Strict-Transport-Security", "max-age=31536000")
	}
	if err := soundAddress(c.Request.URL); err != nil {
		s.fail(c, badRequest{err})
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
	for _, h := range s.o.Hosts {
		if h == host {
			return true
		}
	}
	return false
}
