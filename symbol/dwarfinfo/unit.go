package dwarfinfo

import (
	"cmp"
	"debug/dwarf"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"
)

// unit is one compilation unit, read as far as was asked for.
type unit struct {
	tables    *Tables
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

func (u *unit) damaged(err error) {
	u.tables.fault(fmt.Errorf("its debug information is damaged in the unit at 0x%x: %w", u.head.Offset, err))
}

// readLine opens the unit's line table and keeps the names of its files.
func (u *unit) readLine() *dwarf.LineReader {
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

func (u *unit) file(i int64) string {
	if !u.hasLine {
		u.readLine()
	}
	if i < 0 || i >= int64(len(u.files)) || u.files[i] == nil {
		return ""
	}
	return u.files[i].Name
}

func (u *unit) readRows() {
	u.hasRows = true
	if u.readLine() == nil {
		return
	}
	at, ok := u.head.Val(dwarf.AttrStmtList).(int64)
	if !ok {
		return
	}
	rows, err := u.tables.sections.lineRows(at, u.tables.headers[u.head.Offset].address)
	if err != nil {
		u.damaged(err)
	}
	u.rows = rows
	// Sequences come in any order; an end sorts before a beginning at the same address.
	order := func(a, b lineRow) int {
		if c := cmp.Compare(a.addr, b.addr); c != 0 {
			return c
		}
		return cmp.Compare(min(1, a.line), min(1, b.line))
	}
	if !slices.IsSortedFunc(u.rows, order) {
		slices.SortStableFunc(u.rows, order)
	}
}

func (u *unit) line(addr uint64) (string, uint32) {
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
func (u *unit) outline() {
	u.outlined = true
	s := &u.tables.sections
	h, ok := u.tables.headers[u.head.Offset]
	if !ok {
		u.damaged(errors.New("its header is not understood"))
		return
	}
	abbreviations, err := s.abbreviations(&h)
	if err != nil {
		u.damaged(err)
		return
	}
	c := &cursor{b: s.info[:h.end], at: int(h.entries), order: s.order}
	if !s.entry(c, &h, abbreviations).children {
		return
	}
	var open []int   // positions of the scopes that are open
	var closed []int // of those that end where the next entry begins
	for depth := 1; depth > 0 && c.at < len(c.b); {
		e := s.entry(c, &h, abbreviations)
		if c.err != nil {
			u.damaged(c.err)
			break
		}
		if e.tag == 0 {
			depth--
			if n := len(open); n > 0 {
				closed = append(closed, open[n-1])
				open = open[:n-1]
			}
			continue
		}
		for _, i := range closed {
			u.scopes[i].end = e.at
		}
		closed = closed[:0]
		switch {
		case e.tag == dwarf.TagSubprogram:
			u.bodies = append(u.bodies, e.at)
			u.addFunction(e)
			s.skipChildren(c, &h, abbreviations, e)
		case outlined(e.tag) && e.tag != dwarf.TagEnumerationType && e.children:
			if depth++; depth > maxNest {
				u.damaged(errors.New("its scopes are nested too deeply"))
				return
			}
			name := u.scopeName(e)
			if n := len(open); n > 0 {
				name = u.scopes[open[n-1]].name + "::" + name
			}
			open = append(open, len(u.scopes))
			u.scopes = append(u.scopes, scope{begin: e.at, end: 1<<32 - 1, name: name})
		default:
			s.skipChildren(c, &h, abbreviations, e)
		}
	}
	slices.SortFunc(u.functions, func(a, b function) int { return cmp.Compare(a.low, b.low) })
}

// scopeName returns the name of a namespace or type.
func (u *unit) scopeName(e skimmed) string {
	name := e.name
	if e.odd {
		name = ""
		if whole := u.whole(e.at); whole != nil {
			name = u.tables.text(whole, dwarf.AttrName)
		}
	}
	if name == "" && e.tag == dwarf.TagNamespace {
		return "(anonymous namespace)"
	}
	return name
}

// whole returns an entry with all that it has, nil where it cannot be read.
func (u *unit) whole(at dwarf.Offset) *dwarf.Entry {
	r := u.tables.data.Reader()
	r.Seek(at)
	e, err := r.Next()
	if err != nil {
		u.damaged(err)
		return nil
	}
	return e
}

// addFunction notes the code of a function; one without is a declaration, or was
// always inlined.
func (u *unit) addFunction(e skimmed) {
	if !e.code {
		return
	}
	ranges := [][2]uint64{{e.low, e.high}}
	if e.odd {
		whole := u.whole(e.at)
		if whole == nil {
			return
		}
		var err error
		if ranges, err = u.tables.data.Ranges(whole); err != nil {
			u.damaged(err)
			return
		}
	}
	for _, x := range ranges {
		if x[0] < x[1] && x[0] != 0 {
			u.functions = append(u.functions, function{x[0], x[1], e.at, ranges[0][0]})
		}
	}
}

func (u *unit) function(addr uint64) (function, bool) {
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
func (u *unit) prefix(off dwarf.Offset, around int) string {
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
func (u *unit) local(function, off dwarf.Offset) (names string, ok bool) {
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
func (u *unit) active(f function, addr uint64) []inlinedCall {
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
func (u *unit) readCalls(off dwarf.Offset) []inlinedCall {
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

func (u *unit) call(e *dwarf.Entry, parent int32) (inlinedCall, bool) {
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
