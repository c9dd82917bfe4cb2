package unwind

import "unsafe"

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
type segment struct {
	base  uint64
	pcs   []uint32
	rule  []uint16 // by row; 0: no rule
	rules []Rule
	// index holds for every block of code the first row that begins in it or
	// behind, so that a search looks at a few rows only.
	index []uint32
}

// blockShift is the size of a block of code in the index, as a power of two.
const blockShift = 9

// makeIndex fills the index when all rows are there. Code with large gaps gets
// none, so that it stays in proportion to the rows.
func (s *segment) makeIndex() {
	if len(s.pcs) == 0 || int(s.pcs[len(s.pcs)-1]>>blockShift) > 4*len(s.pcs)+64 {
		return
	}
	s.index = make([]uint32, s.pcs[len(s.pcs)-1]>>blockShift+2)
	row := 0
	for block := range s.index {
		for row < len(s.pcs) && s.pcs[row]>>blockShift < uint32(block) {
			row++
		}
		s.index[block] = uint32(row)
	}
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
	offset   int32 // to be added to the register, or the place of the expression
	ra       int32 // where the return address is, relative to the CFA
	first    uint32
	count    uint8 // how many saves, from first on
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
	at := uint32(addr - s.base)
	// The row is the last one that does not begin after the address.
	low, high := 0, len(s.pcs)
	if block := at >> blockShift; int(block)+1 < len(s.index) {
		low, high = int(s.index[block]), int(s.index[block+1])
	} else if s.index != nil {
		low = high
	}
	for low < high {
		mid := int(uint(low+high) >> 1)
		if s.pcs[mid] <= at {
			low = mid + 1
		} else {
			high = mid
		}
	}
	if low == 0 || s.rule[low-1] == 0 {
		return nil
	}
	return &s.rules[s.rule[low-1]]
}

// Covers reports whether the table has a rule for an address.
func (t *Table) Covers(addr uint64) bool { return t.find(addr) != nil }

// Size returns how many bytes the table takes.
func (t *Table) Size() int {
	n := len(t.exprs) + len(t.saves)*int(unsafe.Sizeof(save{}))
	for _, s := range t.segments {
		n += len(s.index)*4 + len(s.pcs)*4 + len(s.rule)*2 + len(s.rules)*int(unsafe.Sizeof(Rule{}))
	}
	return n
}

// expr returns the expression at a place: one length in two bytes, then it.
func (t *Table) expr(at int32) []byte {
	n := int32(t.exprs[at]) | int32(t.exprs[at+1])<<8
	return t.exprs[at+2 : at+2+n]
}
