package symbol

import (
	"debug/dwarf"
	"errors"
	"fmt"
	"io"
	"sort"
	"strings"
)

// dwarfUnit is one compilation unit, read as far as was asked for.
type dwarfUnit struct {
	tables    *dwarfTables
	head      *dwarf.Entry
	hasRows   bool
	rows      []lineRow // by address
	files     []*dwarf.LineFile
	hasLine   bool // files were read
	outlined  bool
	functions []function     // by address; one entry for each stretch of code
	scopes    []scope        // in order of the entries
	bodies    []dwarf.Offset // of all functions, declared or defined, in order
	calls     map[dwarf.Offset][]inlinedCall
}

// lineRow says that code from addr on comes from a line; line 0 ends a sequence.
type lineRow struct {
	addr uint64
	file uint32 // position in the unit's files
	line uint32
}

// function is a stretch of code of one function.
type function struct {
	low, high uint64
	entry     dwarf.Offset
	entryAddr uint64 // where the function begins
}

// scope is a namespace or type that has functions in it.
type scope struct {
	begin, end dwarf.Offset
	name       string // with the names of those around it
}

// inlinedCall is a call that was replaced by the function's own code.
type inlinedCall struct {
	origin dwarf.Offset
	parent int32 // position of the call around it, -1 if none
	line   uint32
	ranges [][2]uint64
}

// Bounds for one unit.
const (
	maxRows  = 16 << 20
	maxCalls = 1 << 20
	maxNest  = 1000
)

func (u *dwarfUnit) damaged(err error) {
	u.tables.fault(fmt.Errorf("its debug information is damaged in the unit at 0x%x: %w", u.head.Offset, err))
}

// readLine opens the unit's line table and keeps the names of its files.
func (u *dwarfUnit) readLine() *dwarf.LineReader {
	u.hasLine = true
	lr, err := u.tables.data.LineReader(u.head)
	if err != nil {
		u.damaged(err)
		return nil
	}
	if lr != nil {
		u.files = lr.Files()
	}
	return lr
}

func (u *dwarfUnit) file(i int64) string {
	if !u.hasLine {
		u.readLine()
	}
	if i < 0 || i >= int64(len(u.files)) || u.files[i] == nil {
		return ""
	}
	return u.files[i].Name
}

func (u *dwarfUnit) readRows() {
	u.hasRows = true
	lr := u.readLine()
	if lr == nil {
		return
	}
	place := map[*dwarf.LineFile]uint32{}
	var row dwarf.LineEntry
	for {
		if err := lr.Next(&row); err != nil {
			if !errors.Is(err, io.EOF) {
				u.damaged(err)
			}
			break
		}
		if len(u.rows) >= maxRows {
			u.damaged(errors.New("its line table has too many rows"))
			break
		}
		x := lineRow{addr: row.Address, line: uint32(row.Line)}
		if row.EndSequence {
			x.line = 0
		}
		at, ok := place[row.File]
		if !ok {
			at = uint32(len(place))
			place[row.File] = at
		}
		x.file = at
		u.rows = append(u.rows, x)
	}
	// The program may have defined files as it ran, so they are kept by row.
	u.files = lr.Files()
	byRow := make([]uint32, len(place))
	for f, at := range place {
		for i := range u.files {
			if u.files[i] == f && f != nil {
				byRow[at] = uint32(i)
			}
		}
	}
	for i := range u.rows {
		u.rows[i].file = byRow[u.rows[i].file]
	}
	// Sequences come in any order; an end sorts before a beginning at the same address.
	sort.SliceStable(u.rows, func(i, j int) bool {
		if u.rows[i].addr != u.rows[j].addr {
			return u.rows[i].addr < u.rows[j].addr
		}
		return u.rows[i].line == 0 && u.rows[j].line != 0
	})
}

func (u *dwarfUnit) line(addr uint64) (string, uint32) {
	if !u.hasRows {
		u.readRows()
	}
	i := sort.Search(len(u.rows), func(i int) bool { return u.rows[i].addr > addr })
	if i == 0 || u.rows[i-1].line == 0 {
		return "", 0
	}
	r := u.rows[i-1]
	return u.file(int64(r.file)), r.line
}

// outline walks the unit's namespaces and types and notes where its functions
// are, without looking into them.
func (u *dwarfUnit) outline() {
	u.outlined = true
	r := u.tables.data.Reader()
	r.Seek(u.head.Offset)
	if e, err := r.Next(); err != nil || e == nil || !e.Children {
		return
	}
	var open []int   // positions of the scopes that are open
	var closed []int // of those that end where the next entry begins
	for depth := 1; depth > 0; {
		e, err := r.Next()
		if err != nil {
			u.damaged(err)
			break
		}
		if e == nil {
			break
		}
		if e.Tag == 0 {
			depth--
			if n := len(open); n > 0 {
				closed = append(closed, open[n-1])
				open = open[:n-1]
			}
			continue
		}
		for _, i := range closed {
			u.scopes[i].end = e.Offset
		}
		closed = closed[:0]
		switch e.Tag {
		case dwarf.TagNamespace, dwarf.TagClassType, dwarf.TagStructType, dwarf.TagUnionType, dwarf.TagModule, dwarf.TagEnumerationType:
			if !e.Children || e.Tag == dwarf.TagEnumerationType {
				r.SkipChildren()
				continue
			}
			if depth++; depth > maxNest {
				u.damaged(errors.New("its scopes are nested too deeply"))
				return
			}
			name := u.tables.text(e, dwarf.AttrName)
			if name == "" && e.Tag == dwarf.TagNamespace {
				name = "(anonymous namespace)"
			}
			if n := len(open); n > 0 {
				name = u.scopes[open[n-1]].name + "::" + name
			}
			open = append(open, len(u.scopes))
			u.scopes = append(u.scopes, scope{begin: e.Offset, end: 1<<32 - 1, name: name})
		case dwarf.TagSubprogram:
			u.bodies = append(u.bodies, e.Offset)
			u.addFunction(e)
			r.SkipChildren()
		default:
			r.SkipChildren()
		}
	}
	sort.Slice(u.functions, func(i, j int) bool { return u.functions[i].low < u.functions[j].low })
}

func (u *dwarfUnit) addFunction(e *dwarf.Entry) {
	if e.Val(dwarf.AttrLowpc) == nil && e.Val(dwarf.AttrRanges) == nil {
		return // a declaration, or one that was always inlined
	}
	ranges, err := u.tables.data.Ranges(e)
	if err != nil {
		u.damaged(err)
		return
	}
	for _, x := range ranges {
		if x[0] < x[1] && x[0] != 0 {
			u.functions = append(u.functions, function{x[0], x[1], e.Offset, ranges[0][0]})
		}
	}
}

func (u *dwarfUnit) function(addr uint64) (function, bool) {
	if !u.outlined {
		u.outline()
	}
	i := sort.Search(len(u.functions), func(i int) bool { return u.functions[i].low > addr })
	if i == 0 || addr >= u.functions[i-1].high {
		return function{}, false
	}
	return u.functions[i-1], true
}

// prefix returns the names of the scopes around an entry, with "::" behind.
func (u *dwarfUnit) prefix(off dwarf.Offset, around int) string {
	if !u.outlined {
		u.outline()
	}
	// A function within a function: a lambda's, or a local type's.
	if i := sort.Search(len(u.bodies), func(i int) bool { return u.bodies[i] >= off }); i > 0 && around < 4 {
		if local, ok := u.local(u.bodies[i-1], off); ok {
			return shortParameters(u.tables.nameOf(u.bodies[i-1], around+1).name) + "::" + local
		}
	}
	i := sort.Search(len(u.scopes), func(i int) bool { return u.scopes[i].begin > off })
	for i--; i >= 0; i-- {
		if off < u.scopes[i].end {
			return u.scopes[i].name + "::"
		}
	}
	return ""
}

// shortParameters leaves a function's parameters out, as in the names of what
// is within it.
func shortParameters(name string) string {
	if i := strings.IndexByte(name, '('); i > 0 && !strings.HasPrefix(name, "(") && !strings.Contains(name, "(anonymous") {
		return name[:i]
	}
	return name
}

// local returns the types around an entry that is within a function, with
// "::" behind each; ok is false where the entry is not within it.
func (u *dwarfUnit) local(function, off dwarf.Offset) (names string, ok bool) {
	r := u.tables.data.Reader()
	r.Seek(function)
	e, err := r.Next()
	if err != nil || e == nil || !e.Children {
		return "", false
	}
	around := []string{""}
	for len(around) > 0 && len(around) < maxNest {
		e, err := r.Next()
		if err != nil || e == nil {
			return "", false
		}
		if e.Tag == 0 {
			around = around[:len(around)-1]
			continue
		}
		if e.Offset == off {
			return around[len(around)-1], true
		}
		if e.Offset > off {
			return "", false
		}
		now := around[len(around)-1]
		switch e.Tag {
		case dwarf.TagClassType, dwarf.TagStructType, dwarf.TagUnionType:
			name := u.tables.text(e, dwarf.AttrName)
			if name == "" || strings.HasPrefix(name, "<lambda") || strings.HasPrefix(name, "__lambda") {
				name = "{lambda}"
			}
			now += name + "::"
		case dwarf.TagLexDwarfBlock, dwarf.TagNamespace:
		default:
			r.SkipChildren()
			continue
		}
		if e.Children {
			around = append(around, now)
		}
	}
	return "", false
}

// active returns the inlined calls that an address is in, the outermost first.
func (u *dwarfUnit) active(f function, addr uint64) []inlinedCall {
	calls, ok := u.calls[f.entry]
	if !ok {
		calls = u.readCalls(f.entry)
		u.calls[f.entry] = calls
	}
	var chain []inlinedCall
	last := int32(-1)
	for i, c := range calls {
		if c.parent != last {
			continue // in a call that the address is not in
		}
		for _, r := range c.ranges {
			if addr >= r[0] && addr < r[1] {
				chain = append(chain, c)
				last = int32(i)
				break
			}
		}
	}
	return chain
}

// readCalls reads the inlined calls of a function, those around before those
// within.
func (u *dwarfUnit) readCalls(off dwarf.Offset) []inlinedCall {
	r := u.tables.data.Reader()
	r.Seek(off)
	if e, err := r.Next(); err != nil || e == nil || !e.Children {
		return nil
	}
	var calls []inlinedCall
	around := []int32{-1}
	for len(around) > 0 {
		e, err := r.Next()
		if err != nil {
			u.damaged(err)
			return calls
		}
		if e == nil {
			return calls
		}
		if e.Tag == 0 {
			around = around[:len(around)-1]
			continue
		}
		now := around[len(around)-1]
		switch e.Tag {
		case dwarf.TagInlinedSubroutine:
			if c, ok := u.call(e, now); ok {
				calls = append(calls, c)
				now = int32(len(calls) - 1)
			}
		case dwarf.TagLexDwarfBlock, dwarf.TagTryDwarfBlock, dwarf.TagCatchDwarfBlock:
		default:
			r.SkipChildren()
			continue
		}
		if e.Children {
			around = append(around, now)
		}
		if len(around) > maxNest || len(calls) > maxCalls {
			u.damaged(errors.New("its calls are nested too deeply"))
			return calls
		}
	}
	return calls
}

func (u *dwarfUnit) call(e *dwarf.Entry, parent int32) (inlinedCall, bool) {
	origin, ok := e.Val(dwarf.AttrAbstractOrigin).(dwarf.Offset)
	if !ok {
		alt, isAlt := e.Val(dwarf.AttrAbstractOrigin).(int64)
		if !isAlt {
			return inlinedCall{}, false
		}
		origin = dwarf.Offset(alt) | inShared
	}
	ranges, err := u.tables.data.Ranges(e)
	if err != nil {
		u.damaged(err)
		return inlinedCall{}, false
	}
	line, _ := e.Val(dwarf.AttrCallLine).(int64)
	return inlinedCall{origin: origin, parent: parent, line: uint32(line), ranges: ranges}, len(ranges) > 0
}
