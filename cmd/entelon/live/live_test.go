package live

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"

	"entelon/core/invent"
	"entelon/core/scope"
)

func windowOf(seed uint64) *Window {
	return &Window{End: 2e9, Profile: invent.Profile(seed, invent.Small)}
}

// TestRowsSumToAll: whatever the rows are, their own costs are all that is in scope.
func TestRowsSumToAll(t *testing.T) {
	for seed := range uint64(10) {
		w := windowOf(seed)
		for _, rows := range RowKinds {
			for _, text := range []string{"", "function is fn3"} {
				v := &View{Rows: rows, Top: 10_000}
				if err := v.Check(text); err != nil {
					t.Fatal(err)
				}
				table := v.of(w)
				var sum int64
				for _, r := range table.Rows {
					sum += r.Self
				}
				if sum != table.Total {
					t.Errorf("seed %d, %s, %q: the rows add up to %d of %d", seed, rows, text, sum, table.Total)
				}
			}
		}
	}
}

// TestKeys narrow to a row and go back, change the rows, stop and end.
func TestKeys(t *testing.T) {
	v := &View{Rows: "function", Top: 5}
	if err := v.Check(""); err != nil {
		t.Fatal(err)
	}
	if !v.key('1') || v.scope.String() != "" {
		t.Error("it narrows before there is anything")
	}
	v.last = windowOf(4)
	var b bytes.Buffer
	draw := func() string {
		b.Reset()
		if err := v.draw(&b); err != nil {
			t.Fatal(err)
		}
		return b.String()
	}
	draw()
	whole := v.table.Total
	first := v.table.Rows[1]
	v.key('2')
	if text := draw(); !strings.Contains(text, "where function is ") || v.table.Total > whole || v.table.Total < first.Self {
		t.Errorf("%d of %d where %s: %s", v.table.Total, whole, v.scope, text)
	}
	v.key('t')
	if draw(); v.Rows != "thread" || !strings.HasPrefix(v.table.Rows[0].only, "thread is ") {
		t.Errorf("%+v", v.table.Rows)
	}
	v.key('1')
	draw()
	v.key('0')
	v.key('0')
	v.key('0')
	if draw(); v.table.Total != whole || v.scope.String() != "" {
		t.Errorf("back at %q with %d of %d", v.scope, v.table.Total, whole)
	}
	for key, rows := range map[byte]string{'p': "process", 'm': "module", 'f': "function"} {
		if v.key(key); v.Rows != rows {
			t.Errorf("%c: %s", key, v.Rows)
		}
	}
	v.key(' ')
	if !strings.Contains(draw(), "stopped") {
		t.Error("it does not say that it stands still")
	}
	for _, k := range []byte{'q', 3} {
		if v.key(k) {
			t.Errorf("%d does not end it", k)
		}
	}
	if strings.Contains(draw(), "\n") && !strings.Contains(draw(), "\r\n") {
		t.Error("lines do not begin at the left")
	}
}

// TestNamesThatAreHostile: a function's name neither breaks the page nor the expression.
func TestNamesThatAreHostile(t *testing.T) {
	for _, name := range []string{`a"b`, `a\`, "x\x1b[2Jy", "a, b (c)"} {
		sc, err := scope.Parse("function is " + quoted(name))
		if err != nil && !strings.ContainsRune(name, 0x1b) {
			t.Errorf("%q: %v", name, err)
		}
		_ = sc
	}
	table := table{Kind: "function", Rows: []row{{Name: "x\x1b[2Jy"}}}
	if text := strings.Join(table.lines(true), "\n"); strings.Contains(text, "\x1b") {
		t.Errorf("%q", text)
	}
}

// TestPlain: each window is a table, or one line of JSON.
func TestPlain(t *testing.T) {
	var b bytes.Buffer
	v := &View{Rows: "function", Top: 3}
	if err := v.Plain(&b)(*windowOf(2)); err != nil || strings.Count(b.String(), "\n") != 6 {
		t.Errorf("%v: %q", err, b.String())
	}
	b.Reset()
	v.JSON = true
	if err := v.Plain(&b)(*windowOf(2)); err != nil {
		t.Fatal(err)
	}
	var out table
	if err := json.Unmarshal(b.Bytes(), &out); err != nil || len(out.Rows) != 3 || strings.Count(b.String(), "\n") != 1 {
		t.Errorf("%v: %s", err, b.String())
	}
}
