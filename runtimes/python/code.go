package python

import (
	"encoding/binary"
	"strings"
	"unicode/utf8"
)

// How much of a code object's parts is read, in bytes from the beginning of
// each: the objects of its name and of its file's name, and its line table.
const (
	NameBytes  = 320
	FileBytes  = 576
	TableBytes = 8 << 10
)

// Code is what a code object tells of its function.
type Code struct {
	Name  string // as the author would say it: the qualified name
	File  string
	First uint32 // the line where it begins
	table []byte
	start uint64 // address of its first instruction
}

// NewCode reads a code object at an address. parts are the objects of its
// name, of its file's name and of its line table, in the lengths above. ok is
// false where they are not what they should be.
func NewCode(l *Layout, address uint64, first uint32, name, file, table []byte) (c Code, ok bool) {
	c = Code{First: first, start: address + l.Code.Bytecode}
	var ok1, ok2 bool
	c.Name, ok1 = text(l, name)
	c.File, ok2 = text(l, file)
	if !ok1 || !ok2 || c.Name == "" {
		return c, false
	}
	if at := l.BytesData; uint64(len(table)) > at {
		n := binary.LittleEndian.Uint64(table[l.BytesSize:])
		c.table = append([]byte(nil), table[at:min(uint64(len(table)), at+min(n, 1<<30))]...)
	}
	return c, true
}

// Line returns the line that a frame executes, 0 where it is not known.
func (c *Code) Line(e *Entry, l *Layout) uint32 {
	at := e.Instr - c.start
	if int64(at) < 0 {
		return c.First // it has not begun
	}
	return lineOf(c.table, int(c.First), at)
}

// text reads a str object: length, state (two bits of how its characters are
// kept in memory, then how wide they are), and the characters behind it.
func text(l *Layout, b []byte) (string, bool) {
	u := &l.Unicode
	if uint64(len(b)) < u.Compact {
		return "", false
	}
	n := binary.LittleEndian.Uint64(b[u.Length:])
	state := binary.LittleEndian.Uint32(b[u.State:])
	// The bits: interned (2, without the global lock 8 or 16), kind (3),
	// compact, ascii.
	var kind, compact, ascii uint32
	for _, at := range []int{2, 8, 16} {
		kind, compact, ascii = state>>at&7, state>>(at+3)&1, state>>(at+4)&1
		if compact != 0 && kind != 0 {
			break
		}
	}
	if compact == 0 || (kind != 1 && kind != 2 && kind != 4) || n > 1<<20 {
		return "", false
	}
	at := u.Compact
	if ascii != 0 {
		at = u.ASCII
	}
	chars := b[min(at, uint64(len(b))):]
	var out strings.Builder
	for i := range n {
		if (i+1)*uint64(kind) > uint64(len(chars)) {
			out.WriteRune('…') // longer than was read
			break
		}
		r := rune(chars[i*uint64(kind)])
		switch kind {
		case 2:
			r = rune(binary.LittleEndian.Uint16(chars[2*i:]))
		case 4:
			r = rune(binary.LittleEndian.Uint32(chars[4*i:]))
		}
		if ascii != 0 && r >= utf8.RuneSelf {
			return "", false
		}
		out.WriteRune(r)
	}
	return out.String(), true
}
