package rooms

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"
)

// How large a room may become before it is two: lines of a package outside tests, and methods of a
// type.
const (
	maxLines   = 2600
	maxMethods = 26
)

// TestRoomsStaySmall: no package has more lines, and no type more methods, than one idea takes, and
// each package says in its first comment what it is.
func TestRoomsStaySmall(t *testing.T) {
	lines, methods, said := map[string]int{}, map[string]int{}, map[string]bool{}
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			if name := d.Name(); name == "node_modules" || name == "testdata" || name == ".git" {
				return filepath.SkipDir
			}
			return err
		}
		if !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return nil
		}
		files := token.NewFileSet()
		f, err := parser.ParseFile(files, path, nil, parser.ParseComments)
		if err != nil {
			return err
		}
		if ast.IsGenerated(f) {
			return nil
		}
		dir := filepath.Dir(path)
		lines[dir] += files.Position(f.FileEnd).Line
		said[dir] = said[dir] || f.Doc.Text() != ""
		for _, decl := range f.Decls {
			fn, ok := decl.(*ast.FuncDecl)
			if !ok || fn.Recv == nil {
				continue
			}
			of := fn.Recv.List[0].Type
			if p, ok := of.(*ast.StarExpr); ok {
				of = p.X
			}
			if p, ok := of.(*ast.IndexExpr); ok {
				of = p.X
			}
			if name, ok := of.(*ast.Ident); ok {
				methods[dir+"."+name.Name]++
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if len(lines) < 60 {
		t.Fatalf("there are only %d packages", len(lines))
	}
	for dir, n := range lines {
		if n > maxLines {
			t.Errorf("%s has %d lines", dir, n)
		}
		if !said[dir] {
			t.Errorf("%s does not say what it is", dir)
		}
	}
	for name, n := range methods {
		if n > maxMethods {
			t.Errorf("%s has %d methods", name, n)
		}
	}
}
