package symbol

import (
	"debug/elf"
	"encoding/binary"
	"sort"
	"strings"

	"entelon/symbol/elfimage"
	"entelon/symbol/symboltable"
)

// relocationSize is the size of Elf64_Rela: offset, info, addend.
const relocationSize = 24

// withStubs adds the stubs of an image to its functions, which are in the order of
// their addresses. System V Application Binary Interface, AMD64 supplement, 5.2:
// Dynamic Linking.
func withStubs(im *elfimage.Image, functions []symboltable.Symbol) []symboltable.Symbol {
	if im.ELF.Machine != elf.EM_X86_64 {
		return functions
	}
	slots := readSlots(im, functions)
	if len(slots) == 0 {
		return functions
	}
	out := functions
	for _, s := range im.ELF.Sections {
		if s.Flags&elf.SHF_EXECINSTR == 0 || !strings.HasPrefix(s.Name, ".plt") {
			continue
		}
		code, err := im.Content(s)
		if err != nil {
			continue // a damaged section has no stubs to tell of
		}
		each := 16
		if s.Entsize == 8 {
			each = 8
		}
		for at := 0; at+each <= len(code); at += each {
			addr := s.Addr + uint64(at)
			if slot, ok := jumpsThrough(code[at:at+each], addr); ok {
				if s := slots[slot]; s.Table != nil {
					out = append(out, symboltable.Symbol{Addr: addr, End: addr + uint64(each), Table: s.Table, Name: s.Name, Stub: true})
				}
			}
		}
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].Addr < out[j].Addr })
	return out
}

// jumpsThrough finds the jump in a stub, which may have an instruction before it
// that says where jumps may arrive, and returns the address of its slot.
func jumpsThrough(code []byte, addr uint64) (slot uint64, ok bool) {
	for i := 0; i+6 <= len(code); i++ {
		if code[i] == 0xff && code[i+1] == 0x25 { // jmp *disp32(%rip)
			disp := int32(binary.LittleEndian.Uint32(code[i+2:]))
			return addr + uint64(i) + 6 + uint64(int64(disp)), true
		}
	}
	return 0, false
}

// readSlots returns by slot the function whose address the dynamic linker writes
// there, or the one that chooses it; of those only their names matter.
func readSlots(im *elfimage.Image, functions []symboltable.Symbol) map[uint64]symboltable.Symbol {
	out := map[uint64]symboltable.Symbol{}
	for _, s := range im.ELF.Sections {
		if s.Type != elf.SHT_RELA || int(s.Link) >= len(im.ELF.Sections) || s.Flags&elf.SHF_ALLOC == 0 {
			continue
		}
		table := im.ELF.Sections[s.Link]
		if table.Type != elf.SHT_DYNSYM || int(table.Link) >= len(im.ELF.Sections) {
			continue
		}
		relocations, err := im.Content(s)
		if err != nil {
			continue
		}
		symbols, err := im.Content(table)
		if err != nil {
			continue
		}
		strs, err := im.Content(im.ELF.Sections[table.Link])
		if err != nil {
			continue
		}
		names := &symboltable.Table{Strings: strs}
		order := im.ELF.ByteOrder
		for b := relocations; len(b) >= relocationSize; b = b[relocationSize:] {
			slot, info := order.Uint64(b), order.Uint64(b[8:])
			switch elf.R_X86_64(info & 0xffffffff) {
			case elf.R_X86_64_JMP_SLOT, elf.R_X86_64_GLOB_DAT:
				if at := (info >> 32) * symboltable.Size; at+symboltable.Size <= uint64(len(symbols)) {
					if name := order.Uint32(symbols[at:]); elfimage.Text(strs, name) != "" {
						out[slot] = symboltable.Symbol{Table: names, Name: name}
					}
				}
			case elf.R_X86_64_IRELATIVE:
				chooser := order.Uint64(b[16:])
				i := sort.Search(len(functions), func(i int) bool { return functions[i].Addr >= chooser })
				if i < len(functions) && functions[i].Addr == chooser {
					out[slot] = functions[i]
				}
			}
		}
	}
	return out
}
