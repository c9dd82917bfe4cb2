package rooms

import (
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

var writeDocs = flag.Bool("write-docs", false, "write what the documents have from the source")

const messagesDoc = "../docs/messages.md"

const messagesHead = `# Messages

All that the commands and the server say when something is wrong or in doubt, by the package that says it, so that it can be read at one sitting. Written by ` + "`make generate`" + ` from the source; … stands for what is filled in. A message says what is wrong and where, and behind a semicolon what to do.
`

// sayers are the functions whose texts are for people, by name.
var sayers = []string{"New", "Errorf", "Warn", "warn", "say", "fail"}

// sayingFields are the fields that hold such texts.
var sayingFields = []string{"Error", "Remedy", "remedy", "Text", "text"}

// messagesOf returns the texts of a file, in their order.
func messagesOf(path string) (out []string, err error) {
	file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.SkipObjectResolution)
	if err != nil {
		return nil, err
	}
	add := func(e ast.Expr) {
		if text, ok := textOf(e); ok && len(strings.Fields(strings.NewReplacer("…", "", ":", "", ";", "", "(", "", ")", "").Replace(text))) > 1 {
			out = append(out, text)
		}
	}
	remedies := false
	ast.Inspect(file, func(n ast.Node) bool {
		switch x := n.(type) {
		case *ast.FuncDecl:
			remedies = strings.Contains(strings.ToLower(x.Name.Name), "remed") || x.Name.Name == "whereToLook"
		case *ast.ReturnStmt:
			for _, r := range x.Results {
				if remedies {
					add(r)
				}
			}
		case *ast.CallExpr:
			name := ""
			switch f := x.Fun.(type) {
			case *ast.SelectorExpr:
				name = f.Sel.Name
			case *ast.Ident:
				name = f.Name
			}
			if slices.Contains(sayers, name) {
				for _, a := range x.Args {
					add(a)
				}
			}
		case *ast.KeyValueExpr:
			if k, ok := x.Key.(*ast.Ident); ok && slices.Contains(sayingFields, k.Name) {
				add(x.Value)
			}
		case *ast.AssignStmt:
			for i, l := range x.Lhs {
				if s, ok := l.(*ast.SelectorExpr); ok && slices.Contains(sayingFields, s.Sel.Name) && i < len(x.Rhs) {
					add(x.Rhs[i])
				}
			}
		}
		return true
	})
	return out, nil
}

// textOf is the text of an expression; what is no text of its own is left out.
func textOf(e ast.Expr) (text string, ok bool) {
	switch x := e.(type) {
	case *ast.BasicLit:
		if x.Kind != token.STRING {
			return "", false
		}
		s, err := strconv.Unquote(x.Value)
		return filledIn(s), err == nil
	case *ast.BinaryExpr:
		a, isA := textOf(x.X)
		b, isB := textOf(x.Y)
		if !isA && !isB {
			return "", false
		}
		if !isA {
			a = "…"
		}
		if !isB {
			b = "…"
		}
		return a + b, true
	case *ast.CallExpr:
		if f, isSel := x.Fun.(*ast.SelectorExpr); isSel && f.Sel.Name == "Sprintf" && len(x.Args) > 0 {
			return textOf(x.Args[0])
		}
	}
	return "", false
}

// filledIn writes … for each verb of a format.
func filledIn(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] != '%' {
			b.WriteByte(s[i])
			continue
		}
		for i++; i < len(s) && strings.IndexByte("+-#0123456789.*[]", s[i]) >= 0; i++ {
		}
		if i < len(s) && s[i] == '%' {
			b.WriteByte('%')
		} else {
			b.WriteString("…")
		}
	}
	return b.String()
}

// messages is the document.
func messages(t *testing.T) string {
	t.Helper()
	var b strings.Builder
	b.WriteString(messagesHead)
	last := ""
	for _, root := range []string{"cmd", "capture", "codec", "collector", "core", "diagnose", "linux", "people", "resolve", "runtimes", "server", "store", "symbol", "unwind"} {
		err := filepath.WalkDir(filepath.Join("..", root), func(path string, d os.DirEntry, err error) error {
			if err != nil || d.IsDir() && d.Name() == "testdata" {
				return filepath.SkipDir
			}
			if !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") || strings.HasSuffix(path, "_bpfel.go") {
				return nil
			}
			texts, err := messagesOf(path)
			if err != nil || len(texts) == 0 {
				return err
			}
			if folder := strings.TrimPrefix(filepath.ToSlash(filepath.Dir(path)), "../"); folder != last {
				fmt.Fprintf(&b, "\n## %s\n\n", folder)
				last = folder
			}
			for _, text := range texts {
				text = strings.Join(strings.Fields(strings.ReplaceAll(text, "`", "'")), " ")
				fmt.Fprintf(&b, "- %s\n", strings.NewReplacer("<", "&lt;", "|", "\\|", "*", "\\*", "_", "\\_").Replace(text))
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	return b.String()
}

// leaks are words of libraries and system calls that no message has.
var leaks = []string{"strconv.", "rlimit", "syscall.", "invalid syntax", ".entelon-", "lstat", "errno", "nil pointer", "unmarshal", "json:"}

// TestMessages: the document has all messages, and none speaks of what is inside.
func TestMessages(t *testing.T) {
	want := messages(t)
	if *writeDocs {
		if err := os.WriteFile(messagesDoc, []byte(want), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	b, err := os.ReadFile(messagesDoc)
	if err != nil {
		t.Fatal(err)
	}
	if string(b) != want {
		t.Error("docs/messages.md has other messages; run make generate")
	}
	if n := strings.Count(want, "\n- "); n < 300 {
		t.Errorf("%d messages were found", n)
	}
	for _, l := range leaks {
		for line := range strings.Lines(want) {
			if strings.HasPrefix(line, "- ") && strings.Contains(line, l) {
				t.Errorf("%q is in: %s", l, line)
			}
		}
	}
}
