package dwarfinfo

import (
	"debug/dwarf"
	"encoding/binary"
	"errors"
)

// cursor reads the encodings that DWARF's sections share. What is beyond the end
// is an error once, and zeros from then on.
type cursor struct {
	b     []byte
	at    int
	order binary.ByteOrder
	err   error
}

var errShort = errors.New("it ends within an entry")

func (c *cursor) take(n uint64) []byte {
	if c.err != nil || n > uint64(len(c.b)-c.at) {
		c.err = errShort
		c.at = len(c.b)
		return nil
	}
	b := c.b[c.at : c.at+int(n)]
	c.at += int(n)
	return b
}

func (c *cursor) uint(size int) uint64 {
	b := c.take(uint64(size))
	if b == nil {
		return 0
	}
	switch size {
	case 1:
		return uint64(b[0])
	case 2:
		return uint64(c.order.Uint16(b))
	case 4:
		return uint64(c.order.Uint32(b))
	case 8:
		return c.order.Uint64(b)
	}
	c.err = errShort
	return 0
}

func (c *cursor) uleb() uint64 {
	if c.at < len(c.b) && c.b[c.at] < 0x80 { // most are short
		c.at++
		return uint64(c.b[c.at-1])
	}
	v, n := binary.Uvarint(c.b[c.at:])
	if n <= 0 {
		c.err = errShort
		c.at = len(c.b)
		return 0
	}
	c.at += n
	return v
}

func (c *cursor) sleb() int64 {
	var v int64
	for shift := uint(0); ; shift += 7 {
		x := c.uint(1)
		if shift < 64 {
			v |= int64(x&0x7f) << shift
		}
		if x < 0x80 || c.err != nil {
			if shift += 7; shift < 64 && x&0x40 != 0 {
				v |= -1 << shift
			}
			return v
		}
	}
}

func (c *cursor) text() string {
	for i := c.at; i < len(c.b); i++ {
		if c.b[i] == 0 {
			s := string(c.b[c.at:i])
			c.at = i + 1
			return s
		}
	}
	c.err = errShort
	c.at = len(c.b)
	return ""
}

// length reads the length of what follows, and the size of offsets in it.
func (c *cursor) length() (n uint64, offset int) {
	if n = c.uint(4); n < 0xffff_fff0 {
		return n, 4
	}
	return c.uint(8), 8
}

// dwarfSections are the bytes of the sections that are read directly.
type dwarfSections struct {
	info, abbrev, line, str, lineStr []byte
	order                            binary.ByteOrder
}

// unitHeader is what stands before a unit's entries.
type unitHeader struct {
	begin   uint64
	entries dwarf.Offset // of the first one
	end     uint64
	abbrev  uint64
	version uint16
	address int // bytes of an address
	offset  int // bytes of an offset: 4, or 8 of large files
}

// unitHeaders finds the headers of all units, by their first entries. They end at what
// is not understood.
func (s *dwarfSections) unitHeaders() map[dwarf.Offset]unitHeader {
	out := map[dwarf.Offset]unitHeader{}
	for at := 0; at < len(s.info); {
		c := cursor{b: s.info, at: at, order: s.order}
		var h unitHeader
		var n uint64
		n, h.offset = c.length()
		if h.end = uint64(c.at) + n; c.err != nil || n > uint64(len(s.info)-c.at) {
			return out
		}
		h.begin, h.version = uint64(at), uint16(c.uint(2))
		if h.version < 5 {
			h.abbrev, h.address = c.uint(h.offset), int(c.uint(1))
		} else {
			kind := c.uint(1)
			h.address, h.abbrev = int(c.uint(1)), c.uint(h.offset)
			switch kind {
			case 0x02, 0x06: // a type's unit: its signature and where it is
				c.take(uint64(8 + h.offset))
			case 0x04, 0x05: // of split information: its identifier
				c.take(8)
			}
		}
		if h.entries = dwarf.Offset(c.at); c.err == nil && h.version >= 2 && h.version <= 5 {
			out[h.entries] = h
		}
		at = int(h.end)
	}
	return out
}
