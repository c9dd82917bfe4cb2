package unwind

import (
	"slices"
	"unsafe"
)

// Table tells for every address of a module how to get from a frame there to
// its caller's. Rows are sorted by address; equal rules are kept once. A Table
// does not change after it was made and may be used by many goroutines.
type Table struct {
	segments []segment
	saves    []save
	exprs    []byte
	Rows     int   // number of rows
	Source   int   // bytes of call-frame information that they were compiled from
	Fault    error // why some of the information was left out, nil if none was
}

// segment is a part of a table with addresses relative to its base. There is
// one for every 4 GiB of code, and one for every 65 535 distinct rules.
//
// Its rows are kept by blocks of code, of which each row needs but the place within its
// block: of 256 bytes where the code is dense, so that a row takes three bytes instead
// of six and a search looks at a few rows only, or of 64 KiB where it has gaps. Code with
// hardly any rows has no blocks, so that what is kept stays in proportion to the rows.
type segment struct {
	base  uint64
	rule  []uint16 // by row; 0: no rule
	rules []Rule

	pcs    []uint32 // by row, where there are no blocks, and while rows are added
	near   []uint8  // by row, in blocks of 256 bytes
	far    []uint16 // by row, in blocks of 64 KiB
	blocks blocks
}

// The sizes of blocks, as powers of two.
const (
	nearShift = 8
	farShift  = 16
)

// blocks says for every block of code which is the first row that begins in it or
// behind: for each group of blocks in whole, for a block what is to be added.
type blocks struct {
	groups []uint32
	more   []uint16 // nil: each block is its own group
}

const groupShift = 4

func (b *blocks) first(block uint32) int {
	if b.more == nil {
		return int(b.groups[block])
	}
	return int(b.groups[block>>groupShift]) + int(b.more[block])
}

// rows returns the rows from the first of a block to the first of the next, all where
// it is behind the last block.
func (b *blocks) rows(block uint32) (low, high int, last bool) {
	n := len(b.groups)
	if b.more != nil {
		n = len(b.more)
	}
	if int(block)+1 >= n {
		return 0, 0, true
	}
	return b.first(block), b.first(block + 1), false
}

// pack brings the rows into blocks when all are there.
func (s *segment) pack() {
	n := len(s.pcs)
	switch {
	case n > 0 && int(s.pcs[n-1]>>nearShift) <= 2*n+64:
		s.near = make([]uint8, n)
		for i, pc := range s.pcs {
			s.near[i] = uint8(pc)
		}
		s.blocks = s.blocked(nearShift, groupShift)
	case n > 0 && int(s.pcs[n-1]>>farShift) <= n/8+64:
		s.far = make([]uint16, n)
		for i, pc := range s.pcs {
			s.far[i] = uint16(pc)
		}
		s.blocks = s.blocked(farShift, 0)
	default:
		s.pcs = slices.Clone(s.pcs)
		return
	}
	s.pcs = nil
}

// blocked finds the first rows of blocks of a size.
func (s *segment) blocked(shift, group uint) (b blocks) {
	row, n := 0, len(s.pcs)
	for block := range s.pcs[n-1]>>shift + 2 {
		for row < n && s.pcs[row]>>shift < block {
			row++
		}
		if block&(1<<group-1) == 0 {
			b.groups = append(b.groups, uint32(row))
		}
		if group > 0 {
			b.more = append(b.more, uint16(row-int(b.groups[block>>group]))) // 256 rows a block at most
		}
	}
	return blocks{slices.Clip(b.groups), slices.Clip(b.more)}
}

// each visits the rows with their addresses relative to the base.
func (s *segment) each(visit func(row int, pc uint32)) {
	for i, pc := range s.pcs {
		visit(i, pc)
	}
	for block := uint32(0); s.pcs == nil; block++ {
		low, high, last := s.blocks.rows(block)
		if last {
			return
		}
		for i := low; i < high; i++ {
			if s.near != nil {
				visit(i, block<<nearShift|uint32(s.near[i]))
			} else {
				visit(i, block<<farShift|uint32(s.far[i]))
			}
		}
	}
}

// row returns how many rows begin at an address or before it.
func (s *segment) row(at uint32) int {
	switch {
	case s.near != nil:
		low, high, last := s.blocks.rows(at >> nearShift)
		if last {
			return len(s.near)
		}
		return upTo(s.near, low, high, uint8(at))
	case s.far != nil:
		low, high, last := s.blocks.rows(at >> farShift)
		if last {
			return len(s.far)
		}
		return upTo(s.far, low, high, uint16(at))
	}
	return upTo(s.pcs, 0, len(s.pcs), at)
}

// upTo returns the first position from low to high whose place is behind another, high
// where there is none.
func upTo[T uint8 | uint16 | uint32](places []T, low, high int, at T) int {
	for low < high {
		if mid := int(uint(low+high) >> 1); places[mid] <= at {
			low = mid + 1
		} else {
			high = mid
		}
	}
	return low
}

// cfaKind says how the canonical frame address, the value of the stack
// pointer before the call, is found.
type cfaKind uint8

const (
	cfaNone     cfaKind = iota
	cfaRegister         // register plus offset
	cfaExpr             // the value of a DWARF expression
	cfaOutmost          // there is no caller
	cfaSignal           // the registers that the kernel saved for a signal handler
	cfaSwitch           // code that changes stacks: by frame pointer, or by the runtime's own record
)

// Rule gets from a frame to its caller's.
type Rule struct {
	cfa      cfaKind
	register uint8
	how      How
	signal   bool  // the caller was interrupted, so its address is exact
	role     role  // of code of the Go runtime
	count    uint8 // how many saves, from first on
	offset   int32 // to be added to the register, or the place of the expression
	ra       int32 // where the return address is, relative to the CFA
	first    uint32
}

// role marks code of the Go runtime that the walk must know.
type role uint8

const (
	roleNone     role = iota
	roleCallback      // runs Go code for C code
	roleStandIn       // is named as the place at which a stack was left, and never is
)

// save says where a register of the caller is.
type save struct {
	register uint8
	kind     saveKind
	offset   int32 // relative to the CFA, a register number, or the place of the expression
}

type saveKind uint8

const (
	saveAt        saveKind = iota // in memory at CFA + offset
	saveValue                     // is CFA + offset
	saveRegister                  // in another register
	saveExprAt                    // in memory at the value of an expression
	saveExprValue                 // is the value of an expression
	saveLost                      // cannot be known
)

// find returns the rule for an address of the module's own address space, nil
// where there is none.
func (t *Table) find(addr uint64) *Rule {
	i := len(t.segments) - 1
	for i >= 0 && t.segments[i].base > addr {
		i--
	}
	if i < 0 {
		return nil
	}
	s := &t.segments[i]
	if addr-s.base > 1<<32-1 {
		return nil
	}
	row := s.row(uint32(addr-s.base)) - 1
	if row < 0 || s.rule[row] == 0 {
		return nil
	}
	return &s.rules[s.rule[row]]
}

// Covers reports whether the table has a rule for an address.
func (t *Table) Covers(addr uint64) bool { return t.find(addr) != nil }

// Size returns how many bytes the table takes.
func (t *Table) Size() int {
	n := len(t.exprs) + len(t.saves)*int(unsafe.Sizeof(save{}))
	for _, s := range t.segments {
		n += len(s.blocks.groups)*4 + len(s.blocks.more)*2 + len(s.near) + len(s.far)*2 + len(s.pcs)*4 + len(s.rule)*2 + len(s.rules)*int(unsafe.Sizeof(Rule{}))
	}
	return n
}

// expr returns the expression at a place: one length in two bytes, then it.
func (t *Table) expr(at int32) []byte {
	n := int32(t.exprs[at]) | int32(t.exprs[at+1])<<8
	return t.exprs[at+2 : at+2+n]
}
