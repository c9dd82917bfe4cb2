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
	"log/slog"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"entelon/server/keep"
	"entelon/server/request"
	"entelon/store"
)

// Options of a server, and the server, are those of all its areas.
type (
	Options = request.Options
	Server  = request.Server
)

// DefaultMemory is how many bytes everything that is opened or compared may have together if
// nothing else is said.
const DefaultMemory = request.DefaultMemory

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
	s := &request.Server{Store: st, Options: o, Keep: keep.New(o.Memory), Engine: gin.New(), Hashing: make(chan struct{}, 2), Began: time.Now(), Gates: request.NewGates(), Sources: request.OpenFolders(o.Sources)}
	// A name with a slash is one segment of an address.
	s.Engine.UseRawPath, s.Engine.UnescapePathValues = true, true
	if st != nil {
		st.Room, st.Opened, st.Limits = s.Keep.Borrow, s.Opened, s.Limits()
	}
	s.Routes = table(s)
	s.Metrics = request.NewMetrics(s)
	s.Engine.Use(request.OperatingRoutes{Server: s}.Logged, s.Recover, s.Guard)
	s.Engine.GET("/healthz", request.OperatingRoutes{Server: s}.Healthy)
	s.Engine.GET("/readyz", request.OperatingRoutes{Server: s}.Ready)
	s.Engine.GET("/metrics", request.OperatingRoutes{Server: s}.MetricsFor)
	api := s.Engine.Group("/api/v1")
	for _, r := range s.Routes {
		api.Handle(r.Method, r.GinPath(), request.SignInRoutes{Server: s}.Admit(r))
	}
	doc, err := Description()
	if err != nil {
		return nil, err
	}
	api.GET("/openapi.json", func(c *gin.Context) { c.Data(http.StatusOK, "application/json", doc) })
	s.Engine.NoRoute(pageRoutes{s}.page)
	return s, nil
}
