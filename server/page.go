package server

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"net/http"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"entelon/server/api"
	"entelon/server/request"
)

// pageRoutes answers for the page itself.
type pageRoutes struct{ *request.Server }

// pages are the addresses that the front end knows, as in web/src/app/router.ts.
var pages = []string{
	"/", "/programs", "/programs/*", "/programs/*/function", "/takes", "/takes/*", "/compare", "/new", "/running/*", "/machines", "/sign-in", "/enter/*", "/you", "/people",
}

// isPage reports whether the front end has something at an address.
func isPage(address string) bool {
	address = "/" + strings.Trim(address, "/")
	return slices.ContainsFunc(pages, func(p string) bool {
		ok, err := path.Match(p, address)
		return ok && err == nil
	})
}

// page serves the front end: its files by name, and its one page for every
// address that the front end itself understands.
func (s pageRoutes) page(c *gin.Context) {
	if strings.HasPrefix(c.Request.URL.Path, "/api/") || (c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead) {
		c.JSON(http.StatusNotFound, api.ErrorBody{Error: "there is nothing at " + c.Request.URL.Path, Remedy: "/api/v1/openapi.json describes the API"})
		return
	}
	if s.Options.Web == nil {
		c.JSON(http.StatusNotFound, api.ErrorBody{Error: "this server was built without its front end", Remedy: "build it with: make build"})
		return
	}
	name := strings.TrimPrefix(path.Clean(c.Request.URL.Path), "/")
	b, err := fs.ReadFile(s.Options.Web, name)
	if err != nil {
		if path.Ext(name) != "" && !errors.Is(err, fs.ErrInvalid) && strings.HasPrefix(name, "assets/") {
			c.JSON(http.StatusNotFound, api.ErrorBody{Error: "there is no file " + name})
			return
		}
		name = "index.html"
		if b, err = fs.ReadFile(s.Options.Web, name); err != nil {
			c.JSON(http.StatusNotFound, api.ErrorBody{Error: "this server was built without its front end", Remedy: "build it with: make build"})
			return
		}
	}
	if strings.HasPrefix(name, "assets/") {
		c.Header("Cache-Control", "public, max-age=31536000, immutable") // their names hold a hash
	} else {
		c.Header("Cache-Control", "no-cache")
	}
	if name == "index.html" {
		if !isPage(c.Request.URL.EscapedPath()) { // the front end says so, too
			c.Data(http.StatusNotFound, "text/html; charset=utf-8", b)
			return
		}
		if c.Request.Method == http.MethodGet {
			s.ahead(c)
		}
	}
	var content io.ReadSeeker = bytes.NewReader(b)
	http.ServeContent(c.Writer, c.Request, name, time.Time{}, content)
}
