package unwind

import (
	"errors"
	"fmt"
	"math"
)

// raSaved stands for a return address that is among the saves.
const raSaved = math.MinInt32

// maxExpr bounds an expression, maxRemembered the nesting of remembered states.
const (
	maxExpr       = 250
	maxRemembered = 64
)

// savedAt says where a register's value in the caller is, while a program runs.
type savedAt struct {
	set  bool
	kind saveKind
	off  int64
	expr []byte
}

// state is what the instructions of a function have built up at one address.
type state struct {
	cfa        cfaKind
	register   uint64
	offset     int64
	expr       []byte
	registers  [registerCount]savedAt
	outmost    bool // the return address is said to be undefined
	impossible bool // an expression or offset beyond what is supported
}

// Call-frame instructions (DWARF 5, section 7.24, and the GNU extensions).
const (
	cfaAdvanceLoc     = 0x40 // with the distance in the low six bits
	cfaOffset         = 0x80 // with the register
	cfaRestore        = 0xc0 // with the register
	cfaNop            = 0x00
	cfaSetLoc         = 0x01
	cfaAdvanceLoc1    = 0x02
	cfaAdvanceLoc2    = 0x03
	cfaAdvanceLoc4    = 0x04
	cfaOffsetExt      = 0x05
	cfaRestoreExt     = 0x06
	cfaUndefined      = 0x07
	cfaSameValue      = 0x08
	cfaRegisterOp     = 0x09
	cfaRememberState  = 0x0a
	cfaRestoreState   = 0x0b
	cfaDefCfa         = 0x0c
	cfaDefCfaRegister = 0x0d
	cfaDefCfaOffset   = 0x0e
	cfaDefCfaExpr     = 0x0f
	cfaExpression     = 0x10
	cfaOffsetExtSf    = 0x11
	cfaDefCfaSf       = 0x12
	cfaDefCfaOffsetSf = 0x13
	cfaValOffset      = 0x14
	cfaValOffsetSf    = 0x15
	cfaValExpression  = 0x16
	cfaGNUArgsSize    = 0x2e
	cfaGNUNegOffset   = 0x2f
)

// prepare runs the initial instructions.
func (x *cie) prepare(program []byte) {
	p := runner{cie: x}
	if p.run(program, 0, nil) == nil {
		s := p.now
		x.initial = &s
	}
}

// runner runs the instructions of one function.
type runner struct {
	cie        *cie
	now        state
	remembered []state
}

// rows calls visit for every stretch of a function with the state there.
func (f *function) rows(visit func(addr uint64, s *state)) error {
	if f.cie.initial == nil {
		return errors.New("the instructions of its common information are damaged")
	}
	p := runner{cie: f.cie, now: *f.cie.initial}
	return p.run(f.program, f.start, func(addr uint64) bool {
		if addr >= f.end {
			return false
		}
		visit(addr, &p.now)
		return true
	})
}

// run runs instructions. changed is called with the address from which on the
// state holds, before it moves on, and at the end.
func (p *runner) run(program []byte, addr uint64, changed func(uint64) bool) error {
	c := cursor{b: program}
	dirty := true
	move := func(to uint64) bool {
		if changed == nil || to < addr {
			return false
		}
		if dirty && !changed(addr) {
			return false
		}
		dirty = false
		addr = to
		return true
	}
	for len(c.b) > 0 {
		op := c.u8()
		ok := true
		switch {
		case op&0xc0 == cfaAdvanceLoc:
			ok = move(addr + uint64(op&0x3f)*p.cie.codeAlign)
		case op == cfaAdvanceLoc1:
			ok = move(addr + uint64(c.u8())*p.cie.codeAlign)
		case op == cfaAdvanceLoc2:
			ok = move(addr + uint64(c.u16())*p.cie.codeAlign)
		case op == cfaAdvanceLoc4:
			ok = move(addr + uint64(c.u32())*p.cie.codeAlign)
		case op == cfaSetLoc:
			if p.cie.encoding&0x70 != 0 {
				return errors.New("it sets a relative address, which no compiler does")
			}
			ok = move(c.pointer(p.cie.encoding, 0))
		default:
			if err := p.instruction(op, &c); err != nil {
				return err
			}
			dirty = true
		}
		if c.err != nil {
			return c.err
		}
		if !ok {
			return nil // beyond the end of the function: compilers pad with such
		}
	}
	if changed != nil && dirty {
		changed(addr)
	}
	return nil
}

func (p *runner) instruction(op byte, c *cursor) error {
	s := &p.now
	align := p.cie.dataAlign
	switch {
	case op&0xc0 == cfaOffset:
		s.save(uint64(op&0x3f), savedAt{kind: saveAt, off: int64(c.uleb()) * align})
		return nil
	case op&0xc0 == cfaRestore:
		p.restore(uint64(op & 0x3f))
		return nil
	}
	switch op {
	case cfaNop:
	case cfaOffsetExt:
		r := c.uleb()
		s.save(r, savedAt{kind: saveAt, off: int64(c.uleb()) * align})
	case cfaOffsetExtSf:
		r := c.uleb()
		s.save(r, savedAt{kind: saveAt, off: c.sleb() * align})
	case cfaGNUNegOffset:
		r := c.uleb()
		s.save(r, savedAt{kind: saveAt, off: -int64(c.uleb()) * align})
	case cfaValOffset:
		r := c.uleb()
		s.save(r, savedAt{kind: saveValue, off: int64(c.uleb()) * align})
	case cfaValOffsetSf:
		r := c.uleb()
		s.save(r, savedAt{kind: saveValue, off: c.sleb() * align})
	case cfaRestoreExt:
		p.restore(c.uleb())
	case cfaUndefined:
		r := c.uleb()
		if r == PC {
			s.outmost = true
		} else {
			s.save(r, savedAt{kind: saveLost})
		}
	case cfaSameValue:
		if r := c.uleb(); r < registerCount {
			s.registers[r] = savedAt{}
		}
	case cfaRegisterOp:
		r := c.uleb()
		from := c.uleb()
		if from >= registerCount {
			s.save(r, savedAt{kind: saveLost})
		} else {
			s.save(r, savedAt{kind: saveRegister, off: int64(from)})
		}
	case cfaExpression, cfaValExpression:
		r := c.uleb()
		kind := saveExprAt
		if op == cfaValExpression {
			kind = saveExprValue
		}
		e := c.take(c.uleb())
		if len(e) > maxExpr {
			s.impossible = true
		}
		s.save(r, savedAt{kind: kind, expr: e})
	case cfaRememberState:
		if len(p.remembered) >= maxRemembered {
			return errors.New("it remembers too many states")
		}
		p.remembered = append(p.remembered, *s)
	case cfaRestoreState:
		n := len(p.remembered)
		if n == 0 {
			return errors.New("it restores a state that it does not remember")
		}
		*s = p.remembered[n-1]
		p.remembered = p.remembered[:n-1]
	case cfaDefCfa:
		s.cfa, s.register = cfaRegister, c.uleb()
		s.offset = int64(c.uleb())
	case cfaDefCfaSf:
		s.cfa, s.register = cfaRegister, c.uleb()
		s.offset = c.sleb() * align
	case cfaDefCfaRegister:
		s.cfa, s.register = cfaRegister, c.uleb()
	case cfaDefCfaOffset:
		s.offset = int64(c.uleb())
	case cfaDefCfaOffsetSf:
		s.offset = c.sleb() * align
	case cfaDefCfaExpr:
		s.cfa, s.expr = cfaExpr, c.take(c.uleb())
		if len(s.expr) > maxExpr {
			s.impossible = true
		}
	case cfaGNUArgsSize:
		c.uleb()
	default:
		return fmt.Errorf("it has the unknown instruction 0x%x", op)
	}
	return nil
}

func (s *state) save(r uint64, p savedAt) {
	if r >= registerCount {
		return // vector registers, which no frame address depends on
	}
	if r == PC {
		s.outmost = false
	}
	p.set = true
	s.registers[r] = p
}

func (p *runner) restore(r uint64) {
	if r >= registerCount || p.cie.initial == nil {
		return
	}
	p.now.registers[r] = p.cie.initial.registers[r]
	if r == PC {
		p.now.outmost = p.cie.initial.outmost
	}
}

// draft makes a rule of the state, nil where there is none that can be used.
func (s *state) draft(signal bool) *draft {
	if s.outmost {
		return &draft{Rule: Rule{cfa: cfaOutmost, how: Tables}}
	}
	if s.impossible || s.cfa == cfaNone || s.register >= registerCount || s.offset != int64(int32(s.offset)) {
		return nil
	}
	d := &draft{Rule: Rule{cfa: s.cfa, register: uint8(s.register), offset: int32(s.offset), ra: raSaved, how: Tables, signal: signal}}
	if s.cfa == cfaExpr {
		d.register, d.offset, d.cfaExpr = 0, 0, s.expr
	}
	for r, p := range s.registers {
		if !p.set {
			continue
		}
		if p.off != int64(int32(p.off)) {
			return nil
		}
		if r == PC && p.kind == saveAt {
			d.ra = int32(p.off)
			continue
		}
		d.saves = append(d.saves, draftSave{save{uint8(r), p.kind, int32(p.off)}, p.expr})
	}
	if !s.registers[PC].set {
		return nil // where the caller is would be unknown
	}
	return d
}
