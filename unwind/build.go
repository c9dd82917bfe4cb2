package unwind

import (
	"encoding/binary"
	"fmt"
	"strings"
)

// draft is a rule while its table is made: expressions and saves are still in
// place rather than shared.
type draft struct {
	Rule
	cfaExpr []byte
	saves   []draftSave
}

type draftSave struct {
	save
	expr []byte
}

// key is equal for equal rules.
func (d *draft) key(b []byte) []byte {
	le := binary.LittleEndian
	flags := byte(0)
	if d.signal {
		flags = 1
	}
	b = append(b[:0], byte(d.cfa), d.register, byte(d.how), byte(d.role), flags, byte(len(d.cfaExpr)))
	b = le.AppendUint32(b, uint32(d.offset))
	b = le.AppendUint32(b, uint32(d.ra))
	b = append(b, d.cfaExpr...)
	for _, s := range d.saves {
		b = append(b, s.register, byte(s.kind), byte(len(s.expr)))
		b = le.AppendUint32(b, uint32(s.offset))
		b = append(b, s.expr...)
	}
	return b
}

// builder makes a Table of rows that come in order of address.
type builder struct {
	t     *Table
	known map[string]uint16
	place map[string]int32 // of expressions
	buf   []byte
	last  uint64 // address of the last row
}

func newBuilder() *builder {
	return &builder{t: &Table{}, place: map[string]int32{}}
}

// row adds a row: from addr on, d holds; nil means that there is no rule. A
// row at the address of the one before takes its place.
func (b *builder) row(addr uint64, d *draft) {
	n := len(b.t.segments)
	if n > 0 && addr < b.last {
		return // rows of overlapping functions: the first one stands
	}
	if n == 0 || addr-b.t.segments[n-1].base > 1<<32-1 || len(b.t.segments[n-1].rules) > 1<<16-2 {
		if d == nil && n == 0 {
			return
		}
		b.t.segments = append(b.t.segments, segment{base: addr, rules: make([]Rule, 1)})
		b.known = map[string]uint16{}
		n++
	}
	s := &b.t.segments[n-1]
	rule := uint16(0)
	if d != nil {
		rule = b.rule(s, d)
	}
	b.last = addr
	at := uint32(addr - s.base)
	if k := len(s.pcs); k > 0 && s.pcs[k-1] == at {
		s.rule[k-1] = rule
		return
	} else if k > 0 && s.rule[k-1] == rule {
		return
	}
	s.pcs = append(s.pcs, at)
	s.rule = append(s.rule, rule)
}

func (b *builder) rule(s *segment, d *draft) uint16 {
	b.buf = d.key(b.buf)
	if id, ok := b.known[string(b.buf)]; ok {
		return id
	}
	r := d.Rule
	if d.cfa == cfaExpr {
		r.offset = b.expr(d.cfaExpr)
	}
	r.first, r.count = uint32(len(b.t.saves)), uint8(len(d.saves))
	for _, x := range d.saves {
		if x.kind == saveExprAt || x.kind == saveExprValue {
			x.offset = b.expr(x.expr)
		}
		b.t.saves = append(b.t.saves, x.save)
	}
	id := uint16(len(s.rules))
	s.rules = append(s.rules, r)
	b.known[string(b.buf)] = id
	return id
}

func (b *builder) expr(e []byte) int32 {
	if at, ok := b.place[string(e)]; ok {
		return at
	}
	at := int32(len(b.t.exprs))
	b.t.exprs = append(b.t.exprs, byte(len(e)), byte(len(e)>>8))
	b.t.exprs = append(b.t.exprs, e...)
	b.place[string(e)] = at
	return at
}

// finish returns the table with its slices cut to size.
func (b *builder) finish() *Table {
	for i := range b.t.segments {
		s := &b.t.segments[i]
		s.rule = append([]uint16(nil), s.rule...)
		s.rules = append([]Rule(nil), s.rules...)
		b.t.Rows += len(s.pcs)
		s.pack()
	}
	b.t.saves = append([]save(nil), b.t.saves...)
	return b.t
}

// String shows a table's rows, for tests and for looking at one.
func (t *Table) String() string {
	var out strings.Builder
	for _, s := range t.segments {
		s.each(func(i int, pc uint32) {
			fmt.Fprintf(&out, "%x %s\n", s.base+uint64(pc), t.describe(&s.rules[s.rule[i]]))
		})
	}
	return out.String()
}

func (t *Table) describe(r *Rule) string {
	var s string
	switch r.cfa {
	case cfaNone:
		return "none"
	case cfaRegister:
		s = fmt.Sprintf("cfa=r%d%+d", r.register, r.offset)
	case cfaExpr:
		s = fmt.Sprintf("cfa=expr(%x)", t.expr(r.offset))
	case cfaOutmost:
		return "outmost"
	case cfaSignal:
		return "signal"
	case cfaSwitch:
		return "switch"
	}
	if r.ra != raSaved {
		s += fmt.Sprintf(" ra=c%+d", r.ra)
	}
	for _, x := range t.saves[r.first : r.first+uint32(r.count)] {
		s += fmt.Sprintf(" r%d=%c%+d", x.register, "cvr*=x"[x.kind], x.offset)
	}
	if r.signal {
		s += " signal"
	}
	return s
}
