package dwarfinfo

import (
	"debug/dwarf"
	"errors"
	"fmt"

	"entelon/symbol/elfimage"
)

// Package debug/dwarf makes an entry of everything that it reads. An outline looks at
// hundreds of thousands of entries and wants a few attributes of some; so it goes
// through the bytes of a unit itself, and asks the package for what is rare.

// abbreviation says which attributes entries have.
type abbreviation struct {
	tag        dwarf.Tag
	children   bool
	attributes []abbreviated
	// fixed is how many bytes the attributes take where that is always the same, -1
	// where it is not; for attributes of which nothing is wanted.
	fixed int
}

type abbreviated struct {
	attr dwarf.Attr
	form uint64
	size int // bytes, -1 where they tell themselves
}

// The forms that are told apart (DW_FORM_…).
const (
	formAddr          = 0x01
	formBlock2        = 0x03
	formBlock4        = 0x04
	formData2         = 0x05
	formData4         = 0x06
	formData8         = 0x07
	formString        = 0x08
	formBlock         = 0x09
	formBlock1        = 0x0a
	formData1         = 0x0b
	formFlag          = 0x0c
	formSdata         = 0x0d
	formStrp          = 0x0e
	formUdata         = 0x0f
	formRefAddr       = 0x10
	formRef1          = 0x11
	formRef2          = 0x12
	formRef4          = 0x13
	formRef8          = 0x14
	formRefUdata      = 0x15
	formIndirect      = 0x16
	formSecOffset     = 0x17
	formExprloc       = 0x18
	formFlagPresent   = 0x19
	formStrx          = 0x1a
	formAddrx         = 0x1b
	formRefSup4       = 0x1c
	formStrpSup       = 0x1d
	formData16        = 0x1e
	formLineStrp      = 0x1f
	formRefSig8       = 0x20
	formImplicitConst = 0x21
	formLoclistx      = 0x22
	formRnglistx      = 0x23
	formRefSup8       = 0x24
	formStrx1         = 0x25
	formStrx4         = 0x28
	formAddrx1        = 0x29
	formAddrx4        = 0x2c
	formGNURefAlt     = 0x1f20
	formGNUStrpAlt    = 0x1f21
)

// sizeOf returns how many bytes a form takes in a unit, -1 where they tell themselves.
func (h *unitHeader) sizeOf(form uint64) int {
	switch form {
	case formAddr:
		return h.address
	case formData1, formFlag, formRef1, formStrx1, formAddrx1:
		return 1
	case formData2, formRef2, formStrx1 + 1, formAddrx1 + 1:
		return 2
	case formStrx1 + 2, formAddrx1 + 2:
		return 3
	case formData4, formRef4, formRefSup4, formStrx4, formAddrx4:
		return 4
	case formData8, formRef8, formRefSig8, formRefSup8:
		return 8
	case formData16:
		return 16
	case formStrp, formSecOffset, formStrpSup, formLineStrp, formGNURefAlt, formGNUStrpAlt:
		return h.offset
	case formRefAddr:
		if h.version <= 2 {
			return h.address
		}
		return h.offset
	case formFlagPresent, formImplicitConst:
		return 0
	}
	return -1
}

// abbreviations reads those of a unit, by their codes.
func (s *dwarfSections) abbreviations(h *unitHeader) (map[uint64]*abbreviation, error) {
	if h.abbrev > uint64(len(s.abbrev)) {
		return nil, errShort
	}
	c := cursor{b: s.abbrev, at: int(h.abbrev), order: s.order}
	out := map[uint64]*abbreviation{}
	for {
		code := c.uleb()
		if code == 0 || c.err != nil {
			return out, c.err
		}
		a := &abbreviation{tag: dwarf.Tag(c.uleb()), children: c.uint(1) != 0}
		for {
			x := abbreviated{attr: dwarf.Attr(c.uleb()), form: c.uleb()}
			if c.err != nil || x.attr == 0 && x.form == 0 {
				break
			}
			if x.form == formImplicitConst {
				c.sleb()
			}
			if x.size = h.sizeOf(x.form); x.size < 0 {
				a.fixed = -1
			} else if a.fixed >= 0 {
				a.fixed += x.size
			}
			a.attributes = append(a.attributes, x)
		}
		out[code] = a
	}
}

// skip passes over a value.
func (c *cursor) skip(x abbreviated, h *unitHeader) {
	if x.size >= 0 {
		c.take(uint64(x.size))
		return
	}
	switch x.form {
	case formString:
		for c.err == nil && c.uint(1) != 0 {
		}
	case formBlock, formExprloc:
		c.take(c.uleb())
	case formBlock1:
		c.take(c.uint(1))
	case formBlock2:
		c.take(c.uint(2))
	case formBlock4:
		c.take(c.uint(4))
	case formSdata, formUdata, formRefUdata, formStrx, formAddrx, formLoclistx, formRnglistx:
		c.uleb()
	case formIndirect:
		form := c.uleb()
		if form == formIndirect {
			c.err = errors.New("a form leads to itself")
			return
		}
		c.skip(abbreviated{form: form, size: h.sizeOf(form)}, h)
	default:
		c.err = fmt.Errorf("form 0x%x is not known", x.form)
	}
}

// skimmed is what an outline wants of an entry.
type skimmed struct {
	at       dwarf.Offset
	tag      dwarf.Tag // 0: the children end
	children bool
	name     string
	odd      bool // the name or the code has to be asked for
	code     bool // it has code
	low      uint64
	high     uint64       // 0: the code is in several pieces, or has to be asked for
	sibling  dwarf.Offset // where the next entry on this level is, 0: unknown
}

// entry reads the next entry as far as an outline wants it.
func (s *dwarfSections) entry(c *cursor, h *unitHeader, abbreviations map[uint64]*abbreviation) (e skimmed) {
	e.at = dwarf.Offset(c.at)
	code := c.uleb()
	if code == 0 {
		return e
	}
	a := abbreviations[code]
	if a == nil {
		c.err = fmt.Errorf("abbreviation %d is not known", code)
		return e
	}
	e.tag, e.children = a.tag, a.children
	if a.fixed >= 0 && !a.children && !outlined(a.tag) { // most: members, types, variables
		c.take(uint64(a.fixed))
		return e
	}
	relative := false
	for _, x := range a.attributes {
		switch x.attr {
		case dwarf.AttrName:
			s.name(c, h, x, &e)
		case dwarf.AttrLowpc:
			e.code = true
			if x.form == formAddr {
				e.low = c.uint(h.address)
			} else {
				e.odd = true
				c.skip(x, h)
			}
		case dwarf.AttrHighpc:
			switch {
			case x.form == formAddr:
				e.high = c.uint(h.address)
			case x.form == formUdata:
				e.high, relative = c.uleb(), true
			case x.size == 1 || x.size == 2 || x.size == 4 || x.size == 8:
				e.high, relative = c.uint(x.size), true
			default:
				e.odd = true
				c.skip(x, h)
			}
		case dwarf.AttrRanges:
			e.code, e.odd = true, true
			c.skip(x, h)
		case dwarf.AttrSibling:
			if x.form == formRef4 || x.form == formRef1 || x.form == formRef2 || x.form == formRef8 {
				e.sibling = dwarf.Offset(h.begin + c.uint(x.size))
			} else {
				c.skip(x, h)
			}
		default:
			c.skip(x, h)
		}
	}
	if relative {
		e.high += e.low
	}
	return e
}

// outlined reports whether an outline wants something of entries with a tag.
func outlined(t dwarf.Tag) bool {
	switch t {
	case dwarf.TagNamespace, dwarf.TagClassType, dwarf.TagStructType, dwarf.TagUnionType, dwarf.TagModule, dwarf.TagEnumerationType, dwarf.TagSubprogram:
		return true
	}
	return false
}

// name reads a name, where it is here; it is only wanted of scopes.
func (s *dwarfSections) name(c *cursor, h *unitHeader, x abbreviated, e *skimmed) {
	wanted := outlined(e.tag) && e.tag != dwarf.TagSubprogram
	switch {
	case !wanted:
		c.skip(x, h)
	case x.form == formString:
		e.name = c.text()
	case x.form == formStrp:
		e.name = elfimage.Text(s.str, uint32(c.uint(h.offset)))
	case x.form == formLineStrp:
		e.name = elfimage.Text(s.lineStr, uint32(c.uint(h.offset)))
	default:
		e.odd = true
		c.skip(x, h)
	}
}

// skipChildren goes on behind the children of the entry that was read last.
func (s *dwarfSections) skipChildren(c *cursor, h *unitHeader, abbreviations map[uint64]*abbreviation, e skimmed) {
	if !e.children {
		return
	}
	for depth := 1; ; {
		if int(e.sibling) > c.at && uint64(e.sibling) <= h.end {
			c.at = int(e.sibling)
			depth--
		}
		if depth == 0 || c.err != nil {
			return
		}
		if e = s.entry(c, h, abbreviations); e.tag == 0 {
			e = skimmed{}
			if depth--; depth == 0 {
				return
			}
		} else if e.children {
			depth++
		} else {
			e = skimmed{}
		}
	}
}
