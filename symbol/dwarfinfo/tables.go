// Package dwarfinfo answers from debug information which functions are active at an address,
// inlined ones included, in which file and at which line. Of a large program only the
// units that an address lies in are read, and of those no more than names, ranges and
// rows need (skim.go); what is damaged is a fault of that unit.
//
// Tables fill themselves as they are asked: one goroutine at a time.
package dwarfinfo

import (
	"debug/dwarf"
	"fmt"
	"sort"

	"entelon/symbol/elfimage"
	"entelon/symbol/location"
)

// Tables answers from DWARF 4 and 5 which functions are active at an
// address, inlined ones included, and which lines they execute. The sections
// stay where they are; a unit is read when the first address in it is asked
// for, a function's inlined calls when the first address in the function is.
type Tables struct {
	data     *dwarf.Data
	sections dwarfSections
	headers  map[dwarf.Offset]unitHeader // by where the entries of units begin
	shared   *Tables                     // the file that this one refers to for common parts, nil if none
	ranges   []unitRange                 // by address
	heads    []*dwarf.Entry
	units    map[dwarf.Offset]*unit
	names    map[dwarf.Offset]dwarfName
	fault    func(error)
}

// unitRange is a stretch of code that one unit describes.
type unitRange struct {
	low, high uint64
	head      *dwarf.Entry
}

// openDWARF returns nil where the image has no debug information, and an error
// where it has some that cannot be read. Faults that are met later, in single
// units, go to fault.
func Open(im, shared *elfimage.Image, fault func(error)) (*Tables, error) {
	t, err := newDWARF(im, fault)
	if t == nil || err != nil {
		return nil, err
	}
	if shared != nil {
		if t.shared, err = newDWARF(shared, fault); err != nil {
			fault(err)
		}
	}
	for _, head := range t.heads {
		ranges, err := t.data.Ranges(head)
		if err != nil {
			fault(fmt.Errorf("its debug information is damaged: %w", err))
			continue
		}
		for _, x := range ranges {
			if x[0] < x[1] && x[0] != 0 {
				t.ranges = append(t.ranges, unitRange{x[0], x[1], head})
			}
		}
	}
	sort.Slice(t.ranges, func(i, j int) bool { return t.ranges[i].low < t.ranges[j].low })
	return t, nil
}

// newDWARF reads the outline: where units begin.
func newDWARF(im *elfimage.Image, fault func(error)) (*Tables, error) {
	sections := map[string][]byte{}
	for _, name := range []string{"abbrev", "info", "line", "ranges", "str", "addr", "line_str", "str_offsets", "rnglists"} {
		b, err := im.DebugSection(name)
		if err != nil {
			return nil, fmt.Errorf("its debug information is damaged: %w", err)
		}
		sections[name] = b
	}
	if len(sections["info"]) == 0 {
		return nil, nil
	}
	data, err := dwarf.New(sections["abbrev"], nil, nil, sections["info"], sections["line"], nil, sections["ranges"], sections["str"])
	if err != nil {
		return nil, fmt.Errorf("its debug information is damaged: %w", err)
	}
	for _, name := range []string{"addr", "line_str", "str_offsets", "rnglists"} {
		if b := sections[name]; len(b) > 0 {
			if err := data.AddSection(".debug_"+name, b); err != nil {
				return nil, fmt.Errorf("its debug information is damaged: %w", err)
			}
		}
	}
	raw := dwarfSections{info: sections["info"], abbrev: sections["abbrev"], line: sections["line"], str: sections["str"], lineStr: sections["line_str"], order: im.ELF.ByteOrder}
	t := &Tables{data: data, sections: raw, headers: raw.unitHeaders(), units: map[dwarf.Offset]*unit{}, names: map[dwarf.Offset]dwarfName{}, fault: fault}
	r := data.Reader()
	for {
		e, err := r.Next()
		if err != nil {
			return nil, fmt.Errorf("its debug information is damaged: %w", err)
		}
		if e == nil {
			return t, nil
		}
		t.heads = append(t.heads, e)
		r.SkipChildren()
	}
}

// unitAt returns the unit that describes an address, nil if none does.
func (t *Tables) unitAt(addr uint64) *unit {
	// Ranges of units may overlap where a linker left some of removed code, so
	// a few before the nearest are looked at, too.
	i := sort.Search(len(t.ranges), func(i int) bool { return t.ranges[i].low > addr })
	for back := 1; back <= 8 && i-back >= 0; back++ {
		if r := t.ranges[i-back]; addr < r.high {
			return t.unit(r.head)
		}
	}
	return nil
}

func (t *Tables) unit(head *dwarf.Entry) *unit {
	if u, ok := t.units[head.Offset]; ok {
		return u
	}
	u := &unit{tables: t, head: head, calls: map[dwarf.Offset][]inlinedCall{}}
	t.units[head.Offset] = u
	return u
}

// headOf returns the unit that holds an entry.
func (t *Tables) headOf(off dwarf.Offset) *unit {
	i := sort.Search(len(t.heads), func(i int) bool { return t.heads[i].Offset > off })
	if i == 0 {
		return nil
	}
	return t.unit(t.heads[i-1])
}

// Line returns the file and line of an address, or "" and 0.
func (t *Tables) Line(addr uint64) (string, uint32) {
	u := t.unitAt(addr)
	if u == nil {
		return "", 0
	}
	return u.line(addr)
}

// Locate returns the functions at an address, the innermost first, or nil.
func (t *Tables) Locate(addr uint64) []location.Location {
	u := t.unitAt(addr)
	if u == nil {
		return nil
	}
	s, ok := u.function(addr)
	if !ok {
		return nil
	}
	file, line := u.line(addr)
	// From the outer end inwards: each call's line belongs to the function around it.
	around := t.named(s.entry)
	around.Function = s.entryAddr
	var out []location.Location
	for _, c := range u.active(s, addr) {
		around.Line = c.line
		out = append(out, around)
		around = t.named(c.origin)
		around.Inlined = true
	}
	if around.File == "" {
		around.File = file
	}
	// A line of another file must not be shown as one of this file.
	if file == around.File {
		around.Line = line
	}
	out = append(out, around)
	for i, j := 0, len(out)-1; i < j; i, j = i+1, j-1 {
		out[i], out[j] = out[j], out[i]
	}
	return out
}

func (t *Tables) named(off dwarf.Offset) location.Location {
	n := t.name(off)
	l := location.Location{Name: n.name, Linkage: n.linkage, File: n.file, Start: n.line}
	return l
}
