package request

import (
	"crypto/rand"
	"encoding/hex"
	"log/slog"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
)

// requestHeader carries the number of a request, which stands in the log, too.
const requestHeader = "X-Request-Id"

const requestKey = "request"

// Logged writes one line for each request, and counts it.
func (s OperatingRoutes) Logged(c *gin.Context) {
	var b [8]byte
	if _, err := rand.Read(b[:]); err != nil {
		panic(err) // the standard library never lets this happen
	}
	id := hex.EncodeToString(b[:])
	c.Header(requestHeader, id)
	c.Set(requestKey, id)
	began := time.Now()
	c.Next()
	took := time.Since(began)
	route := c.FullPath()
	if route == "" {
		route = "page"
	}
	status := c.Writer.Status()
	s.Metrics.count(route, c.Request.Method, status, took)
	level := slog.LevelInfo
	switch {
	case status >= http.StatusInternalServerError && status != http.StatusServiceUnavailable && status != http.StatusInsufficientStorage:
		level = slog.LevelError
	case route == "page" || strings.HasSuffix(route, "z") || strings.HasPrefix(route, "/api/v1/collector/"):
		level = slog.LevelDebug // many, and of little interest
	}
	if !s.Options.Log.Enabled(c.Request.Context(), level) {
		return
	}
	s.Options.Log.LogAttrs(c.Request.Context(), level, "request",
		slog.String("id", id), slog.String("method", c.Request.Method), slog.String("route", route), slog.String("path", Cut(c.Request.URL.Path, 200)),
		slog.Int("status", status), slog.Float64("ms", float64(took.Microseconds())/1000), slog.Int("bytes", max(0, c.Writer.Size())),
		slog.String("who", Who(c).name()), slog.String("from", SignInRoutes(s).client(c)))
}
