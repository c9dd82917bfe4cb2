// Package symboltable reads the functions of ELF symbol tables. It has no state.
package symboltable

import (
	"cmp"
	"debug/elf"
	"slices"
	"strings"

	"entelon/symbol/elfimage"
	"entelon/symbol/location"
)

// Symbol is a function of a symbol table. Its name stays in the file until
// it is asked for.
type Symbol struct {
	Addr, End uint64
	Table     *Table
	Name      uint32 // place in the table's strings
	rank      uint8  // the better of two symbols for one address has the higher
	Chooses   bool   // the code there only chooses which code is called
	Stub      bool   // the code there only jumps to the function of this name in another file
}

// Table is one symbol table of a file, with its strings.
type Table struct{ Strings []byte }

// Text returns the symbol's name without its version.
func (s Symbol) Text() string {
	name, _, _ := strings.Cut(elfimage.Text(s.Table.Strings, s.Name), "@")
	if s.Stub {
		name += location.StubSuffix
	}
	return name
}

// Size is the size of Elf64_Sym: name, info, other, section index,
// value, size.
const Size = 24

// Read returns the functions of all symbol tables of the images by
// address, each address once, with ends that do not overlap the next.
func Read(images ...*elfimage.Image) []Symbol {
	var all []Symbol
	for _, im := range images {
		if im.ELF.Class != elf.ELFCLASS64 {
			continue
		}
		for table, typ := range []elf.SectionType{elf.SHT_DYNSYM, elf.SHT_SYMTAB} {
			for _, s := range im.ELF.Sections {
				if s.Type == typ {
					all = ReadTable(all, im, s, uint8(table))
				}
			}
		}
	}
	slices.SortFunc(all, func(a, b Symbol) int {
		switch {
		case a.Addr != b.Addr:
			return cmp.Compare(a.Addr, b.Addr)
		case a.rank != b.rank:
			return cmp.Compare(b.rank, a.rank)
		}
		return strings.Compare(a.Text(), b.Text())
	})
	out := all[:0]
	for _, s := range all {
		if n := len(out); n > 0 && out[n-1].Addr == s.Addr {
			continue
		}
		out = append(out, s)
	}
	limit := sectionEnds(images[0].ELF)
	for i := range out {
		s := &out[i]
		next := limit(s.Addr)
		if i+1 < len(out) {
			next = min(next, out[i+1].Addr)
		}
		if s.End == s.Addr || s.End > next {
			s.End = next // hand-written code often states no size
		}
	}
	return append([]Symbol(nil), out...)
}

// ReadTable adds the functions of one symbol table. A damaged one adds what
// can be read of it.
func ReadTable(all []Symbol, im *elfimage.Image, s *elf.Section, table uint8) []Symbol {
	b, err := im.Content(s)
	if err != nil || int(s.Link) >= len(im.ELF.Sections) {
		return all
	}
	strs, err := im.Content(im.ELF.Sections[s.Link])
	if err != nil {
		return all
	}
	t := &Table{Strings: strs}
	order := im.ELF.ByteOrder
	for ; len(b) >= Size; b = b[Size:] {
		sec := int(order.Uint16(b[6:]))
		value, size := order.Uint64(b[8:]), order.Uint64(b[16:])
		if sec == 0 || sec >= len(im.ELF.Sections) || value == 0 || im.ELF.Sections[sec].Flags&elf.SHF_EXECINSTR == 0 {
			continue
		}
		// The full table knows better than the dynamic one.
		x := Symbol{Addr: value, End: value + size, Table: t, Name: order.Uint32(b), rank: table}
		x.Chooses = elf.ST_TYPE(b[4]) == elf.STT_GNU_IFUNC
		switch elf.ST_TYPE(b[4]) {
		case elf.STT_FUNC, elf.STT_GNU_IFUNC:
			x.rank += 4
		case elf.STT_NOTYPE: // a label in hand-written code
			name := x.Text()
			if strings.HasPrefix(name, "$") || strings.HasPrefix(name, ".L") {
				continue
			}
		default:
			continue
		}
		if x.End < x.Addr || uint64(x.Name) >= uint64(len(strs)) || strs[x.Name] == 0 {
			continue
		}
		if size > 0 {
			x.rank += 8
		}
		if elf.ST_BIND(b[4]) == elf.STB_GLOBAL {
			x.rank += 2
		}
		all = append(all, x)
	}
	return all
}

// sectionEnds returns a function that tells where the code section that holds
// an address ends.
func sectionEnds(f *elf.File) func(uint64) uint64 {
	var code []*elf.Section
	for _, s := range f.Sections {
		if s.Flags&elf.SHF_EXECINSTR != 0 {
			code = append(code, s)
		}
	}
	return func(addr uint64) uint64 {
		for _, s := range code {
			if addr >= s.Addr && addr < s.Addr+s.Size {
				return s.Addr + s.Size
			}
		}
		return addr
	}
}
