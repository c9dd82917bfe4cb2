package dwarfinfo

import (
	"debug/dwarf"

	"entelon/symbol/elfimage"
	"entelon/symbol/location"
)

// inShared marks the offset of an entry that is in the shared file.
const inShared = dwarf.Offset(1 << 31)

// attrMIPSLinkageName is where compilers before DWARF 4 put the linker's name.
const attrMIPSLinkageName = dwarf.Attr(0x2007)

// dwarfName is what the entries of a function tell of it.
type dwarfName struct {
	name    string
	linkage string // "" where it is the same
	file    string
	line    uint32
}

// text returns an attribute that is a text, here or in the shared file.
func (t *Tables) text(e *dwarf.Entry, a dwarf.Attr) string {
	switch v := e.Val(a).(type) {
	case string:
		return v
	case int64:
		if t.shared != nil && v >= 0 && v < 1<<32 {
			return elfimage.Text(t.shared.sections.str, uint32(v))
		}
	}
	return ""
}

// name returns the name of the function that an entry describes. What the
// entry leaves out is in the one that it is an instance of, and in the
// declaration that this one completes.
func (t *Tables) name(off dwarf.Offset) dwarfName { return t.nameOf(off, 0) }

// nameOf counts in around how often names led to the names of what is around
// them, which damaged information could do for ever.
func (t *Tables) nameOf(off dwarf.Offset, around int) dwarfName {
	if n, ok := t.names[off]; ok {
		return n
	}
	var n dwarfName
	t.collect(off, &n, 0, around)
	if n.linkage != "" {
		if name := location.Demangled(n.linkage); name != n.linkage {
			n.name = name
		} else if n.name == n.linkage {
			n.linkage = ""
		}
	}
	t.names[off] = n
	return n
}

// collect follows an entry to those that it is an instance of; hops counts them.
func (t *Tables) collect(off dwarf.Offset, n *dwarfName, hops, around int) {
	if off&inShared != 0 {
		if t.shared != nil {
			t.shared.collect(off&^inShared, n, hops, around)
		}
		return
	}
	if hops > 8 {
		return
	}
	r := t.data.Reader()
	r.Seek(off)
	e, err := r.Next()
	if err != nil || e == nil {
		return
	}
	if n.linkage == "" {
		if n.linkage = t.text(e, dwarf.AttrLinkageName); n.linkage == "" {
			n.linkage = t.text(e, attrMIPSLinkageName)
		}
	}
	if n.file == "" {
		file, ok := e.Val(dwarf.AttrDeclFile).(int64)
		if u := t.headOf(off); ok && u != nil {
			n.file = u.file(file)
		}
		if line, ok := e.Val(dwarf.AttrDeclLine).(int64); ok && n.file != "" {
			n.line = uint32(line)
		}
	}
	if n.name == "" {
		n.name = t.text(e, dwarf.AttrName)
	}
	for _, a := range []dwarf.Attr{dwarf.AttrAbstractOrigin, dwarf.AttrSpecification} {
		switch next := e.Val(a).(type) {
		case dwarf.Offset:
			t.collect(next, n, hops+1, around)
			return
		case int64:
			t.collect(dwarf.Offset(next)|inShared, n, hops+1, around)
			return
		}
	}
	// The last entry of the chain is where the function is declared.
	if n.linkage == "" && n.name != "" {
		if u := t.headOf(off); u != nil {
			n.name = u.prefix(off, around) + n.name
		}
	}
}
