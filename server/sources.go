package server

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"unicode/utf8"

	"github.com/gin-gonic/gin"

	"entelon/core/profile"
)

// largestSource bounds a source file, in bytes.
const largestSource = 4 << 20

// errNoSource says that a file is in none of the folders.
var errNoSource = errors.New("its source is in none of the folders that the server was given")

// findSource finds a file of a take in the folders with sources: by as much of
// the end of its path as fits. Nothing outside of a folder is read, whatever the
// path says.
func findSource(folders []string, path string) (text, found string, err error) {
	if path == "" {
		return "", "", errors.New("in which file it is defined is not known")
	}
	parts := strings.Split(strings.Trim(filepath.ToSlash(filepath.Clean("/"+path)), "/"), "/")
	for i := range parts {
		for _, dir := range folders {
			root, err := os.OpenRoot(dir)
			if err != nil {
				continue // a folder that has gone
			}
			text, err := readSource(root, filepath.Join(parts[i:]...))
			if closeErr := root.Close(); err == nil && closeErr == nil {
				return text, filepath.Join(dir, filepath.Join(parts[i:]...)), nil
			}
			if errors.Is(err, errLarge) {
				return "", "", err
			}
		}
	}
	return "", "", errNoSource
}

var errLarge = fmt.Errorf("its source is larger than %d MB, or no text", largestSource>>20)

func readSource(root *os.Root, name string) (string, error) {
	f, err := root.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil || !st.Mode().IsRegular() {
		return "", errors.Join(err, os.ErrNotExist)
	}
	b, err := io.ReadAll(io.LimitReader(f, largestSource+1))
	if err != nil {
		return "", err
	}
	if len(b) > largestSource || !utf8.Valid(b) || bytes.IndexByte(b, 0) >= 0 {
		return "", errLarge
	}
	return string(b), nil
}

// lines tells what each line of a function's file costs, with the source where
// it is found.
func (s *Server) lines(c *gin.Context) {
	o, _, k, ok := s.scoped(c)
	if !ok {
		return
	}
	p := o.tree.Profile
	r, found := find(o, k, c.Query("name"), c.Query("module"))
	if !found {
		s.nothing(c, c.Query("name"))
		return
	}
	f := p.Functions[r.Function]
	out := LinesOut{Function: refOf(p, r.Function), File: p.Strings[f.File], Begin: f.Line, ScopeTotal: k.cost.Total(0), Lines: []SourceLine{}, Source: []string{}}
	text, where, err := findSource(s.o.Sources, out.File)
	if err != nil {
		out.Missing = err.Error()
	} else {
		out.Found = where
		out.Source = strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n")
	}
	if out.File != "" {
		for _, l := range o.tree.Lines(k.measure, k.scope, out.File) {
			x := SourceLine{Line: l.Line, Self: l.Self, Total: l.Total, Samples: l.Samples, Calls: []EdgeOut{}}
			for i, e := range l.Calls {
				if i == 5 {
					break
				}
				ref := refOf(p, e.Function)
				x.Calls = append(x.Calls, EdgeOut{Function: &ref, Value: e.Value, Samples: e.Samples})
			}
			out.Lines = append(out.Lines, x)
		}
	}
	for id := range p.Functions {
		fn := p.Functions[id]
		if id != 0 && p.Strings[fn.File] == out.File && fn.Line > 0 {
			out.Functions = append(out.Functions, FunctionLine{Line: fn.Line, Name: p.FunctionName(profile.FunctionID(id)), Short: profile.Short(p.FunctionName(profile.FunctionID(id)))})
		}
	}
	if out.Functions == nil {
		out.Functions = []FunctionLine{}
	}
	c.JSON(http.StatusOK, out)
}
