package dwarfinfo

import (
	"errors"
	"fmt"
)

// lineRow says that code from addr on comes from a line; line 0 ends a sequence.
type lineRow struct {
	addr uint64
	file uint32 // position in the unit's files
	line uint32
}

// lineProgram is what stands before a unit's line program, as far as running it needs
// it (DWARF 5, 6.2.4).
type lineProgram struct {
	instruction uint64 // bytes of the shortest instruction
	operations  uint64 // in one instruction at most
	lineBase    int64
	lineRange   uint64
	first       uint64   // opcode that is not one of the standard ones
	operands    [256]int // of the standard opcodes
}

// Opcodes (DW_LNS_…), and extended ones (DW_LNE_…).
const (
	lineCopy          = 1
	lineAdvancePC     = 2
	lineAdvanceLine   = 3
	lineSetFile       = 4
	lineConstAddPC    = 8
	lineFixedAdvance  = 9
	lineEndSequence   = 1
	lineSetAddress    = 2
	lineProgramLeast  = 2
	lineProgramNewest = 5
)

// lineRows runs the line program at an offset and returns its rows in its order,
// without those that change nothing.
// Sequences whose code was removed, which begin at 0, are left as they are.
func (s *dwarfSections) lineRows(at int64, address int) ([]lineRow, error) {
	if at < 0 || at >= int64(len(s.line)) {
		return nil, errShort
	}
	c := &cursor{b: s.line, at: int(at), order: s.order}
	n, offset := c.length()
	if c.err != nil || n > uint64(len(s.line)-c.at) {
		return nil, errShort
	}
	c.b = s.line[:c.at+int(n)]
	version := c.uint(2)
	if version < lineProgramLeast || version > lineProgramNewest {
		return nil, fmt.Errorf("its line table has version %d", version)
	}
	if version >= 5 {
		address = int(c.uint(1))
		c.uint(1) // of a segment
	}
	head := c.uint(offset)
	if head > uint64(len(c.b)-c.at) {
		return nil, errShort
	}
	begin := c.at + int(head)
	p := lineProgram{instruction: c.uint(1), operations: 1}
	if version >= 4 {
		p.operations = max(1, c.uint(1))
	}
	c.uint(1) // whether rows begin statements at first
	p.lineBase, p.lineRange, p.first = int64(int8(c.uint(1))), c.uint(1), c.uint(1)
	if p.lineRange == 0 && c.err == nil {
		return nil, errors.New("its line table counts lines by none")
	}
	for i := uint64(1); i < p.first; i++ {
		p.operands[i] = int(c.uint(1))
	}
	if c.err != nil {
		return nil, c.err
	}
	c.at = begin
	return p.run(c, address)
}

// run executes a program up to its end.
func (p *lineProgram) run(c *cursor, address int) (rows []lineRow, err error) {
	start := lineRow{file: 1, line: 1}
	now, operation := start, uint64(0)
	rows = make([]lineRow, 0, min((len(c.b)-c.at)/6, maxRows)) // one that is kept takes about six bytes
	add := func() {
		if n := len(rows); n > 0 && rows[n-1].line != 0 && now.line != 0 {
			before := &rows[n-1]
			if before.addr == now.addr { // the later one counts
				*before = now
				return
			}
			if before.line == now.line && before.file == now.file {
				return // it goes on
			}
		}
		rows = append(rows, now)
	}
	advance := func(n uint64) {
		now.addr += p.instruction * ((operation + n) / p.operations)
		operation = (operation + n) % p.operations
	}
	for c.at < len(c.b) && c.err == nil {
		op := c.uint(1)
		if op >= p.first {
			op -= p.first
			advance(op / p.lineRange)
			now.line = uint32(int64(now.line) + p.lineBase + int64(op%p.lineRange))
			add()
		} else {
			switch op {
			case 0:
				n := c.uleb()
				arguments := &cursor{b: c.take(n), order: c.order}
				switch arguments.uint(1) {
				case lineEndSequence:
					now.line = 0
					add()
					now, operation = start, 0
				case lineSetAddress:
					now.addr, operation = arguments.uint(address), 0
				}
			case lineCopy:
				add()
			case lineAdvancePC:
				advance(c.uleb())
			case lineAdvanceLine:
				now.line = uint32(int64(now.line) + c.sleb())
			case lineSetFile:
				now.file = uint32(c.uleb())
			case lineConstAddPC:
				advance((255 - p.first) / p.lineRange)
			case lineFixedAdvance:
				now.addr, operation = now.addr+c.uint(2), 0
			default:
				for range p.operands[op] {
					c.uleb()
				}
			}
		}
		if len(rows) > maxRows {
			return rows, errors.New("its line table has too many rows")
		}
	}
	return rows, c.err
}
