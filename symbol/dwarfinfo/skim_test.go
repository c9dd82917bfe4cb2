package dwarfinfo

import (
	"debug/dwarf"
	"encoding/binary"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"

	"entelon/symbol/elfimage"
)

// outlineSource has what outlines meet: namespaces with and without a name, types
// within types, functions in pieces, inlined and local ones.
const outlineSource = `
#include <cstdio>
#include <string>
#include <vector>
namespace ink { namespace { struct Plate { int wide; struct Corner { int at(int x) { return x + 1; } } corner; enum Side { LEFT, RIGHT }; }; }
template <class T> struct Page { std::vector<T> lines; __attribute__((noinline)) T sum() { T s{}; for (auto &l : lines) s += l; return s; } };
__attribute__((noinline)) int fill(int n) { if (n < 0) throw std::string("no ink"); auto twice = [&](int k) { return k * 2 + n; }; Plate p{n}; return p.corner.at(twice(n)); }
union Both { int a; float b; int get() { return a; } };
}
int main(int c, char **v) { ink::Page<int> page; page.lines.push_back(c); ink::Both b{c}; std::printf("%d\n", page.sum() + ink::fill(c) + b.get()); }
`

// compiledWith builds the source with one compiler's options and returns its tables.
func compiledWith(t *testing.T, options ...string) *Tables {
	t.Helper()
	dir := t.TempDir()
	source, program := filepath.Join(dir, "ink.cc"), filepath.Join(dir, "ink")
	if err := os.WriteFile(source, []byte(outlineSource), 0o600); err != nil {
		t.Fatal(err)
	}
	if b, err := exec.Command(options[0], append(options[1:], "-o", program, source, "-lstdc++")...).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, b)
	}
	f, err := os.Open(program)
	if err != nil {
		t.Fatal(err)
	}
	im, err := elfimage.OpenImage(f, program)
	if err := errors.Join(err, f.Close()); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = im.Close() })
	tables, err := Open(im, nil, func(err error) { t.Error(err) })
	if err != nil || tables == nil {
		t.Fatal(err)
	}
	return tables
}

// TestSkimmedAsRead: functions, scopes and rows are those that the standard library's
// reader finds, for each version and form that compilers here write.
func TestSkimmedAsRead(t *testing.T) {
	for _, options := range [][]string{
		{"g++", "-O2", "-g"}, {"g++", "-O0", "-g", "-gdwarf-4"}, {"g++", "-O2", "-gdwarf-3"}, {"g++", "-O1", "-gdwarf-2", "-fno-inline"},
		{"clang-14", "-O2", "-g"}, {"clang-14", "-O1", "-g", "-gdwarf-4"}, {"g++", "-O2", "-g", "-fdebug-types-section"}, {"g++", "-O2", "-g", "-gdwarf64"},
	} {
		tables := compiledWith(t, options...)
		functions, rows := 0, 0
		for _, head := range tables.heads {
			u := tables.unit(head)
			u.outline()
			u.readRows()
			wantFunctions, wantScopes := readOutline(t, tables, head)
			if !slices.Equal(entriesOf(u.functions), wantFunctions) || u.scopesText() != wantScopes {
				t.Errorf("%v: the unit at %#x has functions\n%v, scopes\n%s\nwant\n%v\n%s", options, head.Offset, entriesOf(u.functions), u.scopesText(), wantFunctions, wantScopes)
			}
			want := readLines(t, tables, head)
			if got := sequenceRows(u); !slices.Equal(got, want) {
				i := 0
				for i < min(len(got), len(want))-1 && got[i] == want[i] {
					i++
				}
				t.Errorf("%v: the unit at %#x has %d rows, want %d; row %d is %+v, want %+v", options, head.Offset, len(got), len(want), i, got[i], want[i])
			}
			functions, rows = functions+len(u.functions), rows+len(u.rows)
		}
		if functions < 3 || rows < 30 {
			t.Errorf("%v: there are only %d functions and %d rows", options, functions, rows)
		}
	}
}

func entriesOf(functions []function) (out []dwarf.Offset) {
	for _, f := range functions {
		out = append(out, f.entry)
	}
	slices.Sort(out)
	return out
}

func (u *unit) scopesText() (out string) {
	for _, s := range u.scopes {
		out += s.name + "\n"
	}
	return out
}

// readOutline does by the library what outline does.
func readOutline(t *testing.T, tables *Tables, head *dwarf.Entry) (functions []dwarf.Offset, scopes string) {
	t.Helper()
	r := tables.data.Reader()
	r.Seek(head.Offset)
	if _, err := r.Next(); err != nil {
		t.Fatal(err)
	}
	around := []string{""}
	for len(around) > 0 {
		e, err := r.Next()
		if err != nil {
			t.Fatal(err)
		}
		if e == nil {
			break
		}
		if e.Tag == 0 {
			around = around[:len(around)-1]
			continue
		}
		scope := slices.Contains([]dwarf.Tag{dwarf.TagNamespace, dwarf.TagClassType, dwarf.TagStructType, dwarf.TagUnionType, dwarf.TagModule}, e.Tag)
		if scope && e.Children {
			name, _ := e.Val(dwarf.AttrName).(string)
			if name == "" && e.Tag == dwarf.TagNamespace {
				name = "(anonymous namespace)"
			}
			if n := around[len(around)-1]; n != "" || len(around) > 1 {
				name = n + "::" + name
			}
			scopes += name + "\n"
			around = append(around, name)
			continue
		}
		if e.Tag == dwarf.TagSubprogram {
			ranges, err := tables.data.Ranges(e)
			if err != nil {
				t.Fatal(err)
			}
			for _, x := range ranges {
				if x[0] < x[1] && x[0] != 0 {
					functions = append(functions, e.Offset)
				}
			}
		}
		r.SkipChildren()
	}
	slices.Sort(functions)
	return functions, scopes
}

type readRow struct {
	addr uint64
	file string
	line uint32
}

// readLines reads a unit's rows by the library, in the order of addresses.
func readLines(t *testing.T, tables *Tables, head *dwarf.Entry) (out []readRow) {
	t.Helper()
	lr, err := tables.data.LineReader(head)
	if err != nil {
		t.Fatal(err)
	}
	if lr == nil {
		return nil
	}
	for {
		var e dwarf.LineEntry
		if err := lr.Next(&e); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			t.Fatal(err)
		}
		x := readRow{e.Address, "", uint32(e.Line)}
		if e.EndSequence {
			x.line = 0
		} else if e.File != nil && e.Line != 0 {
			x.file = e.File.Name
		}
		if n := len(out); n > 0 && out[n-1].line != 0 && x.line != 0 {
			if out[n-1].addr == x.addr {
				out[n-1] = x
				continue
			}
			if out[n-1].line == x.line && out[n-1].file == x.file {
				continue
			}
		}
		out = append(out, x)
	}
	sortReadRows(out)
	return out
}

func sequenceRows(u *unit) (out []readRow) {
	for _, r := range u.rows {
		x := readRow{r.addr, u.file(int64(r.file)), r.line}
		if r.line == 0 {
			x.file = ""
		}
		out = append(out, x)
	}
	sortReadRows(out)
	return out
}

func sortReadRows(rows []readRow) {
	slices.SortStableFunc(rows, func(a, b readRow) int {
		if a.addr != b.addr {
			return int(min(1, max(-1, int64(a.addr-b.addr))))
		}
		return int(min(1, a.line)) - int(min(1, b.line))
	})
}

// TestDamagedSections: sections with wrong bytes are read to an end, without more than
// they hold.
func TestDamagedSections(t *testing.T) {
	tables := compiledWith(t, "g++", "-O1", "-g")
	whole := tables.sections
	r := rand.New(rand.NewPCG(1, 2))
	for range 300 {
		s := whole
		for _, b := range []*[]byte{&s.info, &s.abbrev, &s.line} {
			*b = slices.Clone(*b)
			for range 5 {
				(*b)[r.IntN(len(*b))] = byte(r.Uint32())
			}
		}
		for _, h := range s.unitHeaders() {
			a, err := s.abbreviations(&h)
			if err != nil {
				continue
			}
			c := &cursor{b: s.info[:h.end], at: int(h.entries), order: binary.LittleEndian}
			for c.err == nil && c.at < len(c.b) {
				before := c.at
				s.skipChildren(c, &h, a, s.entry(c, &h, a))
				if c.err == nil && c.at <= before {
					t.Fatal("an entry has no bytes")
				}
			}
		}
		if rows, _ := s.lineRows(int64(r.IntN(len(s.line))), 8); len(rows) > maxRows+1 {
			t.Errorf("%d rows", len(rows))
		}
	}
}
