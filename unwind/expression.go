package unwind

import "math/bits"

// maxOps bounds how long an expression may run, since it can loop.
const maxOps = 1000

// DWARF operations (DWARF 5, section 7.7.1) that occur in call-frame
// information: those of location descriptions have no meaning here.
const (
	opDeref      = 0x06
	opConst1u    = 0x08
	opConst1s    = 0x09
	opConst2u    = 0x0a
	opConst2s    = 0x0b
	opConst4u    = 0x0c
	opConst4s    = 0x0d
	opConst8u    = 0x0e
	opConst8s    = 0x0f
	opConstu     = 0x10
	opConsts     = 0x11
	opDup        = 0x12
	opDrop       = 0x13
	opOver       = 0x14
	opPick       = 0x15
	opSwap       = 0x16
	opRot        = 0x17
	opAbs        = 0x19
	opAnd        = 0x1a
	opDiv        = 0x1b
	opMinus      = 0x1c
	opMod        = 0x1d
	opMul        = 0x1e
	opNeg        = 0x1f
	opNot        = 0x20
	opOr         = 0x21
	opPlus       = 0x22
	opPlusUconst = 0x23
	opShl        = 0x24
	opShr        = 0x25
	opShra       = 0x26
	opXor        = 0x27
	opBra        = 0x28
	opEq         = 0x29
	opGe         = 0x2a
	opGt         = 0x2b
	opLe         = 0x2c
	opLt         = 0x2d
	opNe         = 0x2e
	opSkip       = 0x2f
	opLit0       = 0x30
	opLit31      = 0x4f
	opBreg0      = 0x70
	opBreg31     = 0x8f
	opBregx      = 0x92
	opDerefSize  = 0x94
	opNop        = 0x96
)

// stackMachine evaluates one expression, without allocating.
type stackMachine struct {
	stack [32]uint64
	n     int
	bad   bool
}

func (m *stackMachine) push(v uint64) {
	if m.n == len(m.stack) {
		m.bad = true
		return
	}
	m.stack[m.n] = v
	m.n++
}

func (m *stackMachine) pop() uint64 {
	if m.n == 0 {
		m.bad = true
		return 0
	}
	m.n--
	return m.stack[m.n]
}

func (m *stackMachine) pick(i int) uint64 {
	if i >= m.n {
		m.bad = true
		return 0
	}
	return m.stack[m.n-1-i]
}

// evaluate runs an expression over a frame's registers and the copied memory;
// ok is false where it cannot be known. Where seeded, the stack begins with
// the CFA, as the rules for registers have it.
func evaluate(expr []byte, r *Registers, mem Memory, cfa uint64, seeded bool) (v uint64, ok bool) {
	var m stackMachine
	if seeded {
		m.push(cfa)
	}
	c := cursor{b: expr}
	for ops := 0; len(c.b) > 0; ops++ {
		if ops >= maxOps {
			return 0, false
		}
		op := c.u8()
		switch {
		case op >= opLit0 && op <= opLit31:
			m.push(uint64(op - opLit0))
		case op >= opBreg0 && op <= opBreg31, op == opBregx:
			n := uint64(op - opBreg0)
			if op == opBregx {
				n = c.uleb()
			}
			v, known := r.Get(uint8(min(n, 255)))
			if !known {
				return 0, false
			}
			m.push(v + uint64(c.sleb()))
		case op == opBra, op == opSkip:
			distance := int(int16(c.u16()))
			if op == opSkip || m.pop() != 0 {
				to := len(expr) - len(c.b) + distance
				if to < 0 || to > len(expr) {
					return 0, false
				}
				c.b = expr[to:]
			}
		case op == opDeref, op == opDerefSize:
			size := byte(8)
			if op == opDerefSize {
				size = c.u8()
			}
			w, known := mem.Word(m.pop())
			if !known || size == 0 || size > 8 {
				return 0, false
			}
			m.push(w & (^uint64(0) >> (64 - 8*size)))
		default:
			if !m.constant(op, &c) && !m.arithmetic(op, &c) {
				return 0, false
			}
		}
		if m.bad || c.err != nil {
			return 0, false
		}
	}
	v = m.pop()
	return v, !m.bad
}

func (m *stackMachine) constant(op byte, c *cursor) bool {
	switch op {
	case opConst1u:
		m.push(uint64(c.u8()))
	case opConst1s:
		m.push(uint64(int64(int8(c.u8()))))
	case opConst2u:
		m.push(uint64(c.u16()))
	case opConst2s:
		m.push(uint64(int64(int16(c.u16()))))
	case opConst4u:
		m.push(uint64(c.u32()))
	case opConst4s:
		m.push(uint64(int64(int32(c.u32()))))
	case opConst8u, opConst8s:
		m.push(c.u64())
	case opConstu:
		m.push(c.uleb())
	case opConsts:
		m.push(uint64(c.sleb()))
	default:
		return false
	}
	return true
}

func (m *stackMachine) arithmetic(op byte, c *cursor) bool {
	flag := func(b bool) uint64 {
		if b {
			return 1
		}
		return 0
	}
	switch op {
	case opNop:
		return true
	case opDup:
		m.push(m.pick(0))
		return true
	case opOver:
		m.push(m.pick(1))
		return true
	case opPick:
		m.push(m.pick(int(c.u8())))
		return true
	case opRot:
		a, b, d := m.pop(), m.pop(), m.pop()
		m.push(a)
		m.push(d)
		m.push(b)
		return true
	}
	b := m.pop()
	switch op {
	case opDrop:
		return true
	case opAbs:
		if int64(b) < 0 {
			b = -b
		}
	case opNeg:
		b = -b
	case opNot:
		b = ^b
	case opPlusUconst:
		b += c.uleb()
	default:
		a := m.pop()
		switch op {
		case opSwap:
			m.push(b)
			b = a
		case opAnd:
			b &= a
		case opOr:
			b |= a
		case opXor:
			b ^= a
		case opPlus:
			b += a
		case opMinus:
			b = a - b
		case opMul:
			b *= a
		case opDiv:
			if b == 0 {
				return false
			}
			if int64(b) == -1 {
				b = -a
			} else {
				b = uint64(int64(a) / int64(b))
			}
		case opMod:
			if b == 0 {
				return false
			}
			b = a % b
		case opShl:
			b = a << min(b, bits.UintSize)
		case opShr:
			b = a >> min(b, bits.UintSize)
		case opShra:
			b = uint64(int64(a) >> min(b, bits.UintSize))
		case opEq:
			b = flag(a == b)
		case opGe:
			b = flag(int64(a) >= int64(b))
		case opGt:
			b = flag(int64(a) > int64(b))
		case opLe:
			b = flag(int64(a) <= int64(b))
		case opLt:
			b = flag(int64(a) < int64(b))
		case opNe:
			b = flag(a != b)
		default:
			return false
		}
	}
	m.push(b)
	return true
}
