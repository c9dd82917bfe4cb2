package python

import (
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"os/exec"
	"strings"
	"testing"
)

// runtimeOf makes the beginning of a _PyRuntime that publishes its places.
func runtimeOf(v Version, words map[int]uint64) []byte {
	b := make([]byte, OffsetsSize)
	copy(b, debugCookie)
	binary.LittleEndian.PutUint64(b[8:], uint64(v))
	for i, w := range words {
		binary.LittleEndian.PutUint64(b[8*i:], w)
	}
	return b
}

// published313 are the places as 3.13 publishes them.
var published313 = map[int]uint64{
	5: 632, 9: 7344, 21: 8, 23: 72, 24: 152, 29: 8, 30: 0, 31: 56, 32: 80, 33: 70,
	35: 112, 37: 128, 38: 136, 39: 68, 43: 200, 45: 8, 65: 16, 66: 32, 68: 32, 69: 16, 70: 40,
}

func TestLayoutOf(t *testing.T) {
	for _, v := range []Version{0x030b02f0, 0x030c01f0} {
		l, err := LayoutOf(v, nil)
		if err != nil || l.check() != nil || l.Frame.Marked != (v.minor() == v311) {
			t.Errorf("%s: %+v, %v", v, l, err)
		}
	}
	l, err := LayoutOf(0x030d05f0, runtimeOf(0x030d05f0, published313))
	if err != nil || l.Interpreters != 632 || l.Current != 72 || l.ThreadID != 152 || l.Frame.Flags != 64 || l.Frame.Owner != 6 || l.Code.Bytecode != 200 || l.Unicode.Compact != 56 {
		t.Errorf("%+v, %v", l, err)
	}
	wild := map[int]uint64{}
	for k, w := range published313 {
		wild[k] = w
	}
	wild[29] = 1 << 40
	for name, c := range map[string]struct {
		v       Version
		runtime []byte
	}{
		"too old":                   {0x030a0df0, nil},
		"publishes nothing":         {0x030d00f0, make([]byte, OffsetsSize)},
		"publishes for another":     {0x030d00f0, runtimeOf(0x030e00f0, published313)},
		"newer than what is known":  {0x031000f0, runtimeOf(0x031000f0, published313)},
		"cut short":                 {0x030d00f0, runtimeOf(0x030d00f0, published313)[:100]},
		"places beyond any reason":  {0x030d00f0, runtimeOf(0x030d00f0, wild)},
		"places that are all zeros": {0x030d00f0, runtimeOf(0x030d00f0, nil)},
	} {
		if _, err := LayoutOf(c.v, c.runtime); !errors.Is(err, ErrVersion) || !strings.Contains(err.Error(), "CPython "+c.v.String()) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// entry is one entry of a record, by what Cut looks at.
func entry(frame, code, previous, flags, cframe, outer uint64) []byte {
	var b []byte
	for _, w := range []uint64{frame, code, 0, previous, flags, 0, 0, 0, cframe, outer} {
		b = binary.LittleEndian.AppendUint64(b, w)
	}
	return b
}

func TestCut(t *testing.T) {
	marked := layout311
	const isEntry = 1 << 32
	shim := Layout{Frame: FrameLayout{Owner: 6, CodeMask: ^uint64(7)}}
	const ownedByC = 3 << 48
	for name, c := range map[string]struct {
		l    *Layout
		in   [][]byte
		want string // runs as At:frames
		ok   bool
	}{
		"3.11, two entries":                             {&marked, [][]byte{entry(10, 1, 11, 0, 900, 0), entry(11, 1, 12, isEntry, 900, 12), entry(12, 1, 0, isEntry, 950, 0)}, "900:2 950:1", true},
		"3.11, the record on the stack leads elsewhere": {&marked, [][]byte{entry(10, 1, 11, isEntry, 900, 99), entry(11, 1, 0, isEntry, 950, 0)}, "", false},
		"3.11, never entered":                           {&marked, [][]byte{entry(10, 1, 11, 0, 900, 0), entry(11, 1, 0, 0, 900, 0)}, "", false},
		"3.11, no code":                                 {&marked, [][]byte{entry(10, 0, 0, isEntry, 900, 0)}, "", false},
		"3.13, in a chain": {&shim, [][]byte{entry(10, 9, 11, 0, 0, 0), entry(11, 8, 900, 1<<48, 0, 0), entry(900, 9, 12, ownedByC, 0, 0),
			entry(12, 9, 950, 0, 0, 0), entry(950, 0, 0, ownedByC, 0, 0)}, "900:2 950:1", true},
		"3.13, entered twice with nothing between": {&shim, [][]byte{entry(900, 0, 950, ownedByC, 0, 0), entry(950, 0, 0, ownedByC, 0, 0)}, "", true},
		"3.13, goes on beyond what was read":       {&shim, [][]byte{entry(10, 9, 900, 0, 0, 0), entry(900, 0, 12, ownedByC, 0, 0)}, "900:1", false},
		"nothing":                                  {&shim, nil, "", true},
	} {
		var b []byte
		for _, e := range c.in {
			b = append(b, e...)
		}
		runs, ok := Cut(Decode(append(b, 1, 2, 3), c.l, nil), c.l, nil)
		var got []string
		for _, r := range runs {
			got = append(got, strings.TrimSpace(strings.Join([]string{itoa(r.At), itoa(uint64(len(r.Frames)))}, ":")))
		}
		if ok != c.ok || c.ok && strings.Join(got, " ") != c.want {
			t.Errorf("%s: %v %v, want %s %v", name, got, ok, c.want, c.ok)
		}
	}
	runs := []Run{{At: 950}, {At: 900}}
	if SortRuns(runs); runs[0].At != 900 {
		t.Error("runs are not in the order of the stack")
	}
}

func itoa(n uint64) string { b, _ := json.Marshal(n); return string(b) }

// str makes a str object of 3.12 in memory.
func str(l *Layout, s string, kind uint32, ascii bool) []byte {
	at := l.Unicode.Compact
	state := kind<<2 | 1<<5
	if ascii {
		at, state = l.Unicode.ASCII, state|1<<6
	}
	b := make([]byte, at)
	binary.LittleEndian.PutUint64(b[l.Unicode.Length:], uint64(len([]rune(s))))
	binary.LittleEndian.PutUint32(b[l.Unicode.State:], state)
	for _, r := range s {
		b = append(b, binary.LittleEndian.AppendUint32(nil, uint32(r))[:kind]...)
	}
	return append(b, make([]byte, 64)...)
}

func TestText(t *testing.T) {
	l := &layout312
	for _, c := range []struct {
		s     string
		kind  uint32
		ascii bool
	}{{"Score.pull", 1, true}, {"<module>", 1, true}, {"Übung", 1, false}, {"пьеса", 2, false}, {"𝄞.turn", 4, false}} {
		if got, ok := text(l, str(l, c.s, c.kind, c.ascii)); !ok || got != c.s {
			t.Errorf("%q %v, want %q", got, ok, c.s)
		}
	}
	long := str(l, strings.Repeat("x", 500), 1, true)[:200]
	if got, ok := text(l, long); !ok || !strings.HasSuffix(got, "x…") || len(got) > 200 {
		t.Errorf("a name that is longer than what was read: %q %v", got, ok)
	}
	wrong := str(l, "abc", 1, true)
	wrong[l.Unicode.ASCII] = 0xff
	notCompact := str(l, "abc", 1, true)
	notCompact[l.Unicode.State] = 0
	for _, b := range [][]byte{nil, wrong, notCompact} {
		if got, ok := text(l, b); ok {
			t.Errorf("%q was read from what is no name", got)
		}
	}
}

// TestLinesAgainstTheInterpreter compares every instruction's line with what
// the interpreter itself says, over all functions of some of its own modules.
func TestLinesAgainstTheInterpreter(t *testing.T) {
	const program = `
import sys, json, types, argparse, inspect, textwrap
if sys.version_info < (3, 11): sys.exit(0)
out = []
def visit(c):
    lines = [p[0] or 0 for p in c.co_positions()]
    out.append({"first": c.co_firstlineno, "table": c.co_linetable.hex(), "lines": lines})
    for k in c.co_consts:
        if isinstance(k, types.CodeType): visit(k)
for m in (argparse, inspect, textwrap):
    visit(compile(open(m.__file__).read(), m.__file__, "exec"))
print(json.dumps(out))`
	b, err := exec.Command("python3", "-c", program).Output()
	if err != nil || len(b) == 0 {
		t.Skip("there is no python3 from 3.11 on: ", err)
	}
	var codes []struct {
		First int
		Table string
		Lines []uint32
	}
	if err := json.Unmarshal(b, &codes); err != nil {
		t.Fatal(err)
	}
	seen := 0
	for _, c := range codes {
		table, err := hex.DecodeString(c.Table)
		if err != nil {
			t.Fatal(err)
		}
		for i, want := range c.Lines {
			seen++
			if got := lineOf(table, c.First, uint64(2*i)); got != want {
				t.Fatalf("the instruction at %d of the function at line %d is on line %d, the interpreter says %d", 2*i, c.First, got, want)
			}
		}
		if got := lineOf(table, c.First, uint64(2*len(c.Lines))); got != 0 {
			t.Errorf("line %d beyond the end", got)
		}
	}
	if seen < 10_000 {
		t.Errorf("only %d instructions were compared", seen)
	}
}

func TestNewCode(t *testing.T) {
	l := &layout311
	table := binary.LittleEndian.AppendUint64(make([]byte, 16), 2)
	table = append(table, make([]byte, 8)...)
	table = append(table, 0x80|10<<3|1, 0, 0) // two units on the first line, with columns
	name, file := str(l, "turn", 1, true), str(l, "/shop/page.py", 1, true)
	c, ok := NewCode(l, 0x1000, 7, name, file, table)
	if !ok || c.Name != "turn" || c.File != "/shop/page.py" {
		t.Fatalf("%+v %v", c, ok)
	}
	for instr, want := range map[uint64]uint32{0x1000 + 184: 7, 0x1000 + 186: 7, 0x1000 + 300: 0, 0x1000: 7} {
		if got := c.Line(&Entry{Instr: instr}, l); got != want {
			t.Errorf("at %#x line %d, want %d", instr, got, want)
		}
	}
	if _, ok := NewCode(l, 0x1000, 7, file[:10], name, table); ok {
		t.Error("a name that is cut off was read")
	}
	if _, ok := NewCode(l, 0x1000, 7, name, file, nil); !ok {
		t.Error("without a line table there is no function")
	}
}

func FuzzCode(f *testing.F) {
	l := &layout312
	f.Add(uint32(3), str(l, "a", 1, true), str(l, "b", 2, false), []byte{0x80, 1, 2}, []byte("xdebugpy"))
	f.Fuzz(func(t *testing.T, first uint32, name, file, table, record []byte) {
		for _, l := range []*Layout{&layout311, &layout312} {
			if c, ok := NewCode(l, 1<<20, first, name, file, table); ok {
				c.Line(&Entry{Instr: 1<<20 + 200}, l)
			}
			Cut(Decode(record, l, nil), l, nil)
		}
		if l, err := LayoutOf(0x030f00f0, record); err == nil && l.check() != nil {
			t.Error("a layout that does not hold was accepted")
		}
	})
}
