// Package web holds the built front end.
//
// It is not changed after the program began.
package web

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files returns the built front end, nil if this binary was built without it.
func Files() fs.FS {
	f, err := fs.Sub(dist, "dist/app")
	if err != nil {
		return nil
	}
	if _, err := fs.Stat(f, "index.html"); err != nil {
		return nil
	}
	return f
}
