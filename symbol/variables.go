package symbol

import (
	"bytes"
	"debug/elf"

	"entelon/symbol/elfimage"
	"entelon/symbol/symboltable"
)

// Variable returns the address of a symbol that is not a function, in the
// object's own address space; ok is false where no symbol table of the file
// itself has it.
func (o *Object) Variable(name string) (addr uint64, ok bool) {
	if o.file.Class != elf.ELFCLASS64 {
		return 0, false
	}
	for _, s := range o.file.Sections {
		if s.Type != elf.SHT_DYNSYM && s.Type != elf.SHT_SYMTAB || int(s.Link) >= len(o.file.Sections) {
			continue
		}
		strings, err := o.image.Content(o.file.Sections[s.Link])
		if err != nil || !bytes.Contains(strings, []byte("\x00"+name+"\x00")) {
			continue // most objects end here, without a look at each symbol
		}
		table, err := o.image.Content(s)
		if err != nil {
			continue
		}
		order := o.file.ByteOrder
		for ; len(table) >= symboltable.Size; table = table[symboltable.Size:] {
			defined := order.Uint16(table[6:]) != uint16(elf.SHN_UNDEF)
			if at := order.Uint32(table); defined && elfimage.Text(strings, at) == name {
				return order.Uint64(table[8:]), true
			}
		}
	}
	return 0, false
}

// Section returns the address of a section, in the object's own address space.
func (o *Object) Section(name string) (addr uint64, ok bool) {
	s := o.file.Section(name)
	if s == nil {
		return 0, false
	}
	return s.Addr, true
}

// Bytes returns n bytes at an address of the object's own address space as
// they are in the file; nil where they are not all there.
func (o *Object) Bytes(addr uint64, n int) []byte {
	for _, p := range o.file.Progs {
		if p.Type != elf.PT_LOAD || addr < p.Vaddr || addr-p.Vaddr > p.Filesz || uint64(n) > p.Filesz-(addr-p.Vaddr) {
			continue
		}
		if at := p.Off + addr - p.Vaddr; at <= uint64(len(o.image.Bytes)) && uint64(n) <= uint64(len(o.image.Bytes))-at {
			return o.image.Bytes[at : at+uint64(n)]
		}
	}
	return nil
}

// CodeStart returns the lowest address of executable segments.
func (o *Object) CodeStart() (addr uint64, ok bool) {
	for _, p := range o.file.Progs {
		if p.Type == elf.PT_LOAD && p.Flags&elf.PF_X != 0 && (!ok || p.Vaddr < addr) {
			addr, ok = p.Vaddr, true
		}
	}
	return addr, ok
}

// Mentions reports whether the object has a symbol, its own or one that it
// takes from another object when it is loaded.
func (o *Object) Mentions(name string) bool {
	for _, s := range o.file.Sections {
		if s.Type != elf.SHT_DYNSYM || int(s.Link) >= len(o.file.Sections) {
			continue
		}
		strings, err := o.image.Content(o.file.Sections[s.Link])
		if err == nil && bytes.Contains(strings, []byte("\x00"+name+"\x00")) {
			return true
		}
	}
	return false
}
