package server

import (
	"log/slog"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"entelon/server/keep"
	"entelon/store"
)

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
