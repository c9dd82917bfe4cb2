package jit

import (
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestMapGrows: a map is read while it grows, also when a line is not
// whole yet, and code that takes the place of other code does so by time.
func TestMapGrows(t *testing.T) {
	var m Map
	file := "1000 100 first\n2000 80 second\n0x3000 0x10 int shop.Press.ink(int)\n1000 4"
	m.Read(strings.NewReader(file), 10)
	find := func(addr, at uint64, want string) {
		t.Helper()
		if got, _, ok := m.Find(addr, at); got != want || ok != (want != "") {
			t.Errorf("at %#x, time %d: %q %v, want %q", addr, at, got, ok, want)
		}
	}
	find(0x1010, 5, "first")
	find(0x10ff, 12, "first")
	find(0x3008, 12, "int shop.Press.ink(int)")
	file += "0 third\n1800 900 wide\n"
	m.Read(strings.NewReader(file), 20)
	find(0x1010, 8, "first") // a sample from before
	find(0x1010, 15, "third")
	find(0x1010, 99, "third")
	find(0x1050, 99, "first") // the new one is shorter
	find(0x2010, 15, "wide")  // overlaps what begins later
	find(0x2010, 9, "second")
	find(0x1900, 9, "") // nothing was there at that time
	find(0xfff, 99, "")
	find(0x2100, 99, "")
	if m.Len() != 5 || m.Fault != nil {
		t.Errorf("%d entries, %v", m.Len(), m.Fault)
	}
}

// TestMapAgain: a map that is written anew as a whole adds what is new.
func TestMapAgain(t *testing.T) {
	var m Map
	m.Again(strings.NewReader("1000 100 a\n2000 100 b\n"), 10)
	m.Again(strings.NewReader("1000 100 a\n2000 100 c\n3000 10 d\n"), 20)
	m.Again(strings.NewReader("1000 100 a\n2000 100 c\n3000 10 d\n"), 30)
	if m.Len() != 4 {
		t.Errorf("%d entries", m.Len())
	}
	for _, c := range []struct {
		addr, at uint64
		want     string
	}{{0x1000, 5, "a"}, {0x1000, 35, "a"}, {0x2000, 5, "b"}, {0x2000, 25, "c"}, {0x3000, 12, "d"}, {0x3000, 9, ""}} {
		if got, _, _ := m.Find(c.addr, c.at); got != c.want {
			t.Errorf("%#x at %d: %q, want %q", c.addr, c.at, got, c.want)
		}
	}
}

// TestMapRubbish: rubbish is counted and said, and what is whole is used.
func TestMapRubbish(t *testing.T) {
	for name, file := range map[string]string{
		"text":             "this is not a map\n1000 10 good\n",
		"no size":          "1000  x\n1000 10 good\n",
		"beyond the end":   "ffffffffffffffff 10 wraps\n1000 10 good\n",
		"size of nothing":  "1000 0 none\n1000 10 good\n",
		"without a name":   "1000 10 \n1000 10 good\n",
		"zeros":            "\x00\x00\x00\n1000 10 good\n",
		"an endless line":  strings.Repeat("x", maxJITLine+300<<10) + "\n1000 10 good\n",
		"numbers too long": "11111111111111111111111 10 x\n1000 10 good\n",
	} {
		var m Map
		m.Read(strings.NewReader(file), 1)
		if got, _, _ := m.Find(0x1008, 1); got != "good" {
			t.Errorf("%s: %q", name, got)
		}
		if m.Fault == nil || !strings.Contains(m.Fault.Error(), "of its lines") {
			t.Errorf("%s: %v", name, m.Fault)
		}
	}
}

// TestMapOfAMillion is read in reasonable time, all on one place or not.
func TestMapOfAMillion(t *testing.T) {
	for name, form := range map[string]string{"apart": "%[1]x 40 f%[2]d\n", "in one place": "1000 40 f%[2]d\n"} {
		var b strings.Builder
		for i := range 1_000_000 {
			fmt.Fprintf(&b, form, 0x1000+i*0x40, i)
		}
		var m Map
		begin := time.Now()
		m.Read(strings.NewReader(b.String()), 1)
		for i := range 1000 {
			m.Find(0x1000+uint64(i)*0x9000, 5)
		}
		if took := time.Since(begin); took > 20*time.Second {
			t.Errorf("%s: it took %v", name, took)
		}
		if _, _, ok := m.Find(0x1010, 5); !ok {
			t.Errorf("%s: an entry was not found", name)
		}
	}
}

func TestParseScriptName(t *testing.T) {
	for in, want := range map[string]ScriptName{
		"JS:*turn /shop/page.js:12:9":                      {"turn", "/shop/page.js", 12, 9},
		"JS:~turn file:///shop/page.mjs:12:9":              {"turn", "/shop/page.mjs", 12, 9},
		"JS:^ /shop/page.js:2:49":                          {"(anonymous)", "/shop/page.js", 2, 49},
		"Eval:~ node:internal/main/run_main_module:1:1":    {"(top level)", "node:internal/main/run_main_module", 1, 1},
		"JS:*spin /shop/a b/page.js:1:14":                  {"spin", "/shop/a b/page.js", 1, 14},
		"LazyCompile:+Page.fold /shop/page.js:3:1":         {"Page.fold", "/shop/page.js", 3, 1},
		"Script:~ [eval]:1:1":                              {"(top level)", "[eval]", 1, 1},
		"JS:'get size /shop/x.js":                          {"get", "size /shop/x.js", 0, 0},
		"InterpretedFunction:one /shop/x.js:99999999999:1": {"one", "/shop/x.js:99999999999", 0, 1},
	} {
		if got, ok := ParseScriptName(in); !ok || got.Function != want.Function {
			t.Errorf("%s: %+v %v, want %+v", in, got, ok, want)
		} else if want.Line > 0 && got != want {
			t.Errorf("%s: %+v, want %+v", in, got, want)
		}
	}
	for _, in := range []string{"Builtin:ArrayFrom", "", "int shop.Press.ink(int)", "BytecodeHandler:Star"} {
		if got, ok := ParseScriptName(in); ok {
			t.Errorf("%s: %+v", in, got)
		}
	}
}

// pageMap leads from line 1, column 0 to line 10 of page.ts, from column 8 to
// line 12, from line 3, column 4 to line 2 of ink.ts.
const pageMap = `{"version":3,"sources":["../src/page.ts","../src/ink.ts"],"mappings":"AASA,QAEA;;ICVA"}`

func TestSourceMap(t *testing.T) {
	m, err := ParseSourceMap([]byte(pageMap), "/shop/dist")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		line, column uint32
		file         string
		to           uint32
	}{{1, 1, "/shop/src/page.ts", 10}, {1, 8, "/shop/src/page.ts", 10}, {1, 9, "/shop/src/page.ts", 12}, {1, 99, "/shop/src/page.ts", 12},
		{3, 5, "/shop/src/ink.ts", 2}, {3, 1, "/shop/src/ink.ts", 2}, {2, 1, "", 0}, {9, 1, "", 0}} {
		file, line, ok := m.Find(c.line, c.column)
		if file != c.file || line != c.to || ok != (c.to > 0) {
			t.Errorf("%d:%d is %s:%d %v, want %s:%d", c.line, c.column, file, line, ok, c.file, c.to)
		}
	}
	for name, text := range map[string]string{
		"no JSON": "{", "version": `{"version":2}`, "a source that is not there": `{"version":3,"sources":["a"],"mappings":"AEAA"}`,
		"not base 64": `{"version":3,"sources":["a"],"mappings":"A!AA"}`, "before the first line": `{"version":3,"sources":["a"],"mappings":"AADA"}`,
		"an endless number": `{"version":3,"sources":["a"],"mappings":"` + strings.Repeat("g", 99) + `"}`,
	} {
		if _, err := ParseSourceMap([]byte(text), "/"); err == nil {
			t.Errorf("%s: it was read", name)
		}
	}
}

func TestOpenSourceMap(t *testing.T) {
	dir := t.TempDir()
	file := func(name, text string) string {
		p := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(p, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		return p
	}
	outside := file("secret.map", pageMap)
	if err := os.MkdirAll(filepath.Join(dir, "app"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(outside, filepath.Join(dir, "app", "link.map")); err != nil {
		t.Fatal(err)
	}
	file("app/maps/good.map", pageMap)
	huge := file("app/huge.map", "")
	if err := os.Truncate(huge, maxSourceMap+1); err != nil {
		t.Fatal(err)
	}
	inline := "data:application/json;base64," + base64.StdEncoding.EncodeToString([]byte(pageMap))
	for name, c := range map[string]struct {
		ref string
		err bool
		is  error
	}{
		"below":            {"maps/good.map", false, nil},
		"in the line":      {inline, false, nil},
		"not there":        {"gone.map", true, os.ErrNotExist},
		"outside":          {"../secret.map", true, ErrMapOutside},
		"absolute":         {outside, true, ErrMapOutside},
		"outside by link":  {"link.map", true, nil},
		"elsewhere":        {"http://127.0.0.1/x.map", true, ErrMapOutside},
		"encoded":          {"%2e%2e/secret.map", true, ErrMapOutside},
		"larger than that": {"huge.map", true, nil},
		"a folder":         {"maps", true, nil},
	} {
		script := file("app/page.js", "go();\n"+strings.Repeat("//\n", 2000)+"//# sourceMappingURL="+c.ref+"\n")
		m, err := OpenSourceMap(script, script)
		if (err != nil) != c.err || (m == nil) != c.err || c.is != nil && !errors.Is(err, c.is) {
			t.Errorf("%s: %v, %v", name, m != nil, err)
		}
	}
	if m, err := OpenSourceMap(file("app/none.js", "go()"), "none.js"); m != nil || err != nil {
		t.Errorf("a script without a map: %v %v", m, err)
	}
}

func FuzzMap(f *testing.F) {
	f.Add([]byte("1000 100 first\n2000 80 second\n"), 7)
	f.Fuzz(func(t *testing.T, b []byte, cut int) {
		var m Map
		cut = max(0, min(cut, len(b)))
		m.Read(strings.NewReader(string(b[:cut])), 1)
		m.Read(strings.NewReader(string(b)), 2)
		m.Again(strings.NewReader(string(b)), 3)
		if name, _, ok := m.Find(0x1004, 3); ok && name == "" {
			t.Error("an entry without a name")
		}
		ParseScriptName(string(b))
	})
}

func FuzzSourceMap(f *testing.F) {
	f.Add(pageMap)
	f.Fuzz(func(t *testing.T, s string) {
		m, err := ParseSourceMap([]byte(s), "/shop")
		if err != nil {
			return
		}
		for line := range uint32(5) {
			m.Find(line, 3)
		}
	})
}
