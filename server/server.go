// Package server answers the web front end and other programs over HTTP. It
// computes nothing itself: it finds takes in the store, asks core, and writes
// down the answers. It keeps no state between requests but a cache of takes.
package server

import (
	"context"
	"errors"
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

	"entelon/codec"
	"entelon/codec/take"
	"entelon/core/measure"
	"entelon/server/api"
	"entelon/server/gate"
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
	used   room
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

// New prepares a server over an open store.
func New(st *store.Store, o Options) (*Server, error) {
	gin.SetMode(gin.ReleaseMode)
	if o.MaxUpload == 0 {
		o.MaxUpload = 1 << 30
	}
	if o.Memory == 0 {
		o.Memory = DefaultMemory
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	s := &Server{store: st, o: o, keep: keep.New(o.Memory), engine: gin.New(), hashing: make(chan struct{}, 2), began: time.Now(), gates: newGates(), sources: openFolders(o.Sources)}
	// A name with a slash is one segment of an address.
	s.engine.UseRawPath, s.engine.UnescapePathValues = true, true
	if st != nil {
		st.Room, st.Opened, st.Limits = s.keep.Borrow, s.opened, s.limits()
	}
	s.routes = s.table()
	s.metrics = newMetrics(s)
	s.engine.Use(operatingRoutes{s}.logged, s.recover, s.guard)
	s.engine.GET("/healthz", operatingRoutes{s}.healthy)
	s.engine.GET("/readyz", operatingRoutes{s}.ready)
	s.engine.GET("/metrics", operatingRoutes{s}.metricsFor)
	api := s.engine.Group("/api/v1")
	for _, r := range s.routes {
		api.Handle(r.method, r.ginPath(), signInRoutes{s}.admit(r))
	}
	doc, err := Description()
	if err != nil {
		return nil, err
	}
	api.GET("/openapi.json", func(c *gin.Context) { c.Data(http.StatusOK, "application/json", doc) })
	s.engine.NoRoute(pageRoutes{s}.page)
	return s, nil
}

// ServeHTTP implements http.Handler.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.engine.ServeHTTP(w, r) }

// recover turns a panic into an answer and a line in the log.
func (s *Server) recover(c *gin.Context) {
	defer func() {
		if p := recover(); p != nil {
			s.o.Log.Error("a request failed", "id", c.GetString(requestKey), "path", c.Request.URL.Path, "panic", fmt.Sprint(p), "stack", string(debug.Stack()))
			c.AbortWithStatusJSON(http.StatusInternalServerError, api.ErrorBody{Error: "the server met a fault and wrote it into its log"})
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

// fail answers with the error's own words.
func (s *Server) fail(c *gin.Context, err error) {
	status, body := http.StatusInternalServerError, api.ErrorBody{Error: err.Error()}
	var broken *take.Error
	var bad badRequest
	var tooMuch *http.MaxBytesError
	var gone missing
	var against conflict
	switch {
	case errors.Is(err, context.Canceled) && c.Request.Context().Err() != nil:
		status = 499 // the client has gone; nobody reads this
	case errors.Is(err, errSlow):
		status, body.Remedy = http.StatusRequestTimeout, "send it over a faster connection"
	case errors.As(err, &tooMuch):
		status, body.Error, body.Remedy = http.StatusRequestEntityTooLarge, fmt.Sprintf("more was sent than the %s that are taken here", measure.Amount(tooMuch.Limit, "bytes")), "send less at once"
		if tooMuch.Limit == s.o.MaxUpload {
			body.Error = fmt.Sprintf("the upload is larger than the %s that this server takes", measure.Amount(tooMuch.Limit, "bytes"))
			body.Remedy = "collect for a shorter time or at a lower rate, or raise --max-upload"
		}
	case errors.As(err, &bad):
		status = http.StatusBadRequest
	case errors.As(err, &gone):
		status, body.Remedy = http.StatusNotFound, gone.remedy
	case errors.As(err, &against):
		status, body.Remedy = http.StatusConflict, against.remedy
	case errors.Is(err, store.ErrCollectorKnown):
		status, body.Remedy = http.StatusConflict, "choose another name, or remove that collector first"
	case errors.As(err, &broken):
		status, body.Remedy = http.StatusUnprocessableEntity, broken.Remedy()
		if broken.Reason == take.TooLarge {
			status = http.StatusRequestEntityTooLarge
		}
	case errors.Is(err, store.ErrTooLarge):
		status, body.Remedy = http.StatusRequestEntityTooLarge, "collect for a shorter time or at a lower rate"
	case diskFull(err):
		status, body.Error, body.Remedy = http.StatusInsufficientStorage, "the database's disk is full; nothing was changed", "make room on the disk of PostgreSQL's data folder"
		s.o.Log.Error("the database's disk is full", "error", err)
	case errors.As(err, new(full)):
		status, body.Remedy = http.StatusInsufficientStorage, "remove takes that nobody needs, or raise --max-disk"
	case errors.Is(err, codec.ErrTooLarge):
		status, body.Remedy = http.StatusRequestEntityTooLarge, "narrow the scope, or write them with: entelon stacks FILE"
	case errors.Is(err, keep.ErrTooLarge):
		status, body.Remedy = http.StatusRequestEntityTooLarge, "compare fewer takes, or give the server more with --memory"
	case errors.Is(err, keep.ErrBusy):
		c.Header("Retry-After", "5")
		status, body.Remedy = http.StatusServiceUnavailable, "try again in a few seconds"
	case errors.Is(err, gate.ErrTooMany):
		c.Header("Retry-After", "2")
		status, body.Remedy = http.StatusTooManyRequests, "wait for them to be answered"
	case errors.Is(err, gate.ErrLate):
		c.Header("Retry-After", "5")
		status, body.Remedy = http.StatusServiceUnavailable, "try again in a few seconds"
	case errors.As(err, new(tooMany)):
		status, body.Remedy = http.StatusTooManyRequests, "wait for one to end, or stop one"
	case errors.As(err, new(unavailable)):
		status, body.Remedy = http.StatusServiceUnavailable, "see the Machines page for which collectors are there"
	case errors.Is(err, store.ErrNameTaken):
		status, body.Remedy = http.StatusConflict, "choose another name"
	case errors.Is(err, store.ErrLastOwner):
		status, body.Remedy = http.StatusConflict, "let somebody else manage people first"
	case errors.Is(err, store.ErrNotFound):
		status, body.Remedy = http.StatusNotFound, "it may have been removed; look it up in the list of takes"
	case errors.Is(err, store.ErrUnreachable):
		status, body.Remedy = http.StatusServiceUnavailable, "see whether PostgreSQL runs at that address; nothing was changed"
		if s.silence.over(10 * time.Second) {
			s.o.Log.Error("the database does not answer", "error", err)
		}
		body.Error = firstWords(err)
	default:
		s.o.Log.Error("a request failed", "id", c.GetString(requestKey), "path", c.Request.URL.Path, "error", err)
	}
	body.Error = strings.ReplaceAll(body.Error, "\n", "; ")
	c.AbortWithStatusJSON(status, body)
}

// firstWords leaves the driver's details of an unreachable database to the log.
func firstWords(err error) string {
	s := err.Error()
	if i := strings.Index(s, store.ErrUnreachable.Error()); i >= 0 {
		if line, _, ok := strings.Cut(s[i:], ": "); ok {
			return line
		}
		return s[i:]
	}
	return s
}

// badRequest is a question that cannot be answered as it was put.
type badRequest struct{ error }

// missing is something that there is not; conflict what cannot be done as things
// stand. Both know what to do about it.
type (
	missing struct {
		error
		remedy string
	}
	conflict struct {
		error
		remedy string
	}
)
