package unwind

import (
	"encoding/binary"
	"hash/crc32"
)

// KeepVersion changes with every change of the kept form, or of what is
// compiled; it belongs into the name under which a table is kept.
const KeepVersion = 3

const (
	keptRule = 18
	keptSave = 6
)

// Keep returns a table in the form in which it is kept between takes: a
// checksum, then everything in little-endian, each list with its length.
func (t *Table) Keep() []byte {
	le := binary.LittleEndian
	b := make([]byte, 4, 64+t.Size())
	b = le.AppendUint32(b, uint32(t.Source))
	b = le.AppendUint32(b, uint32(len(t.exprs)))
	b = append(b, t.exprs...)
	b = le.AppendUint32(b, uint32(len(t.saves)))
	for _, s := range t.saves {
		b = append(b, s.register, byte(s.kind))
		b = le.AppendUint32(b, uint32(s.offset))
	}
	b = le.AppendUint32(b, uint32(len(t.segments)))
	for _, s := range t.segments {
		b = le.AppendUint64(b, s.base)
		b = le.AppendUint32(b, uint32(len(s.rules)))
		for _, r := range s.rules {
			signal := byte(0)
			if r.signal {
				signal = 1
			}
			b = append(b, byte(r.cfa), r.register, byte(r.how), signal, byte(r.role), r.count)
			b = le.AppendUint32(b, uint32(r.offset))
			b = le.AppendUint32(b, uint32(r.ra))
			b = le.AppendUint32(b, r.first)
		}
		b = le.AppendUint32(b, uint32(len(s.rule)))
		s.each(func(_ int, pc uint32) { b = le.AppendUint32(b, pc) })
		for _, rule := range s.rule {
			b = le.AppendUint16(b, rule)
		}
	}
	le.PutUint32(b, crc32.ChecksumIEEE(b[4:]))
	return b
}

// Kept reads a kept table; ok is false where it is damaged in any way.
func Kept(b []byte) (t *Table, ok bool) {
	if len(b) < 4 || crc32.ChecksumIEEE(b[4:]) != binary.LittleEndian.Uint32(b) {
		return nil, false
	}
	c := &cursor{b: b[4:]}
	count := func(size int) int {
		n := int(c.u32())
		if c.err != nil || n > len(c.b)/size {
			c.take(uint64(len(c.b)) + 1)
			return 0
		}
		return n
	}
	t = &Table{Source: int(c.u32())}
	t.exprs = append(t.exprs, c.take(uint64(count(1)))...)
	t.saves = make([]save, count(keptSave))
	for i := range t.saves {
		t.saves[i] = save{c.u8(), saveKind(c.u8()), int32(c.u32())}
	}
	t.segments = make([]segment, count(1))
	for i := range t.segments {
		s := &t.segments[i]
		s.base = c.u64()
		s.rules = make([]Rule, count(keptRule))
		for k := range s.rules {
			s.rules[k] = Rule{cfa: cfaKind(c.u8()), register: c.u8(), how: How(c.u8()), signal: c.u8() == 1, role: role(c.u8()), count: c.u8(),
				offset: int32(c.u32()), ra: int32(c.u32()), first: c.u32()}
		}
		s.pcs = make([]uint32, count(6))
		s.rule = make([]uint16, len(s.pcs))
		for k := range s.pcs {
			s.pcs[k] = c.u32()
		}
		for k := range s.rule {
			s.rule[k] = c.u16()
		}
		t.Rows += len(s.pcs)
	}
	if c.err != nil || len(c.b) > 0 || !t.sound() {
		return nil, false
	}
	for i := range t.segments {
		t.segments[i].pack()
	}
	return t, true
}

// sound reports whether every place that a table refers to is there. Its rows are not
// in blocks yet.
func (t *Table) sound() bool {
	exprAt := func(at int32) bool {
		return at >= 0 && int(at)+2 <= len(t.exprs) && int(at)+2+int(t.exprs[at])+int(t.exprs[at+1])<<8 <= len(t.exprs)
	}
	for _, s := range t.saves {
		if (s.kind == saveExprAt || s.kind == saveExprValue) && !exprAt(s.offset) || s.register >= registerCount || s.kind > saveLost {
			return false
		}
	}
	for i, s := range t.segments {
		if len(s.rules) == 0 || i > 0 && s.base < t.segments[i-1].base {
			return false
		}
		for _, r := range s.rules {
			if uint64(r.first)+uint64(r.count) > uint64(len(t.saves)) || r.cfa > cfaSwitch || r.cfa == cfaExpr && !exprAt(r.offset) {
				return false
			}
		}
		for k, rule := range s.rule {
			if int(rule) >= len(s.rules) || k > 0 && s.pcs[k] <= s.pcs[k-1] {
				return false
			}
		}
	}
	return true
}
