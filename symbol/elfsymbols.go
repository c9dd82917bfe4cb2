package symbol

import (
	"cmp"
	"debug/elf"
	"slices"
	"strings"

	"entelon/symbol/elfimage"
	"entelon/symbol/location"
)

// elfSymbol is a function of a symbol table. Its name stays in the file until
// it is asked for.
type elfSymbol struct {
	addr, end uint64
	table     *symbolTable
	name      uint32 // place in the table's strings
	rank      uint8  // the better of two symbols for one address has the higher
	chooses   bool   // the code there only chooses which code is called
	stub      bool   // the code there only jumps to the function of this name in another file
}

// symbolTable is one symbol table of a file, with its strings.
type symbolTable struct{ strings []byte }

// text returns the symbol's name without its version.
func (s elfSymbol) text() string {
	name, _, _ := strings.Cut(elfimage.Text(s.table.strings, s.name), "@")
	if s.stub {
		name += location.StubSuffix
	}
	return name
}

// symbolSize is the size of Elf64_Sym: name, info, other, section index,
// value, size.
const symbolSize = 24

// readSymbols returns the functions of all symbol tables of the images by
// address, each address once, with ends that do not overlap the next.
func readSymbols(images ...*elfimage.Image) []elfSymbol {
	var all []elfSymbol
	for _, im := range images {
		if im.ELF.Class != elf.ELFCLASS64 {
			continue
		}
		for table, typ := range []elf.SectionType{elf.SHT_DYNSYM, elf.SHT_SYMTAB} {
			for _, s := range im.ELF.Sections {
				if s.Type == typ {
					all = readTable(all, im, s, uint8(table))
				}
			}
		}
	}
	slices.SortFunc(all, func(a, b elfSymbol) int {
		switch {
		case a.addr != b.addr:
			return cmp.Compare(a.addr, b.addr)
		case a.rank != b.rank:
			return cmp.Compare(b.rank, a.rank)
		}
		return strings.Compare(a.text(), b.text())
	})
	out := all[:0]
	for _, s := range all {
		if n := len(out); n > 0 && out[n-1].addr == s.addr {
			continue
		}
		out = append(out, s)
	}
	limit := sectionEnds(images[0].ELF)
	for i := range out {
		s := &out[i]
		next := limit(s.addr)
		if i+1 < len(out) {
			next = min(next, out[i+1].addr)
		}
		if s.end == s.addr || s.end > next {
			s.end = next // hand-written code often states no size
		}
	}
	return append([]elfSymbol(nil), out...)
}

// readTable adds the functions of one symbol table. A damaged one adds what
// can be read of it.
func readTable(all []elfSymbol, im *elfimage.Image, s *elf.Section, table uint8) []elfSymbol {
	b, err := im.Content(s)
	if err != nil || int(s.Link) >= len(im.ELF.Sections) {
		return all
	}
	strs, err := im.Content(im.ELF.Sections[s.Link])
	if err != nil {
		return all
	}
	t := &symbolTable{strings: strs}
	order := im.ELF.ByteOrder
	for ; len(b) >= symbolSize; b = b[symbolSize:] {
		sec := int(order.Uint16(b[6:]))
		value, size := order.Uint64(b[8:]), order.Uint64(b[16:])
		if sec == 0 || sec >= len(im.ELF.Sections) || value == 0 || im.ELF.Sections[sec].Flags&elf.SHF_EXECINSTR == 0 {
			continue
		}
		// The full table knows better than the dynamic one.
		x := elfSymbol{addr: value, end: value + size, table: t, name: order.Uint32(b), rank: table}
		x.chooses = elf.ST_TYPE(b[4]) == elf.STT_GNU_IFUNC
		switch elf.ST_TYPE(b[4]) {
		case elf.STT_FUNC, elf.STT_GNU_IFUNC:
			x.rank += 4
		case elf.STT_NOTYPE: // a label in hand-written code
			name := x.text()
			if strings.HasPrefix(name, "$") || strings.HasPrefix(name, ".L") {
				continue
			}
		default:
			continue
		}
		if x.end < x.addr || uint64(x.name) >= uint64(len(strs)) || strs[x.name] == 0 {
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
