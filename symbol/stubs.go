package symbol

import (
	"debug/elf"
	"encoding/binary"
	"sort"
	"strings"
)

// A program calls a function of another file through a stub: a jump to the address
// that the dynamic linker wrote into a slot. Stubs have no symbols of their own; a
// stub's name is that of the function whose relocation is at its slot, with this
// behind it, as disassemblers write it.
const stubSuffix = "@plt"

// stub is the code that jumps through a slot.
type stub struct {
	addr, end uint64
	name      string // of the function, for the linker
}

// relocationSize is the size of Elf64_Rela: offset, info, addend.
const relocationSize = 24

// readStubs returns the stubs of an image in the order of their addresses. System V
// Application Binary Interface, AMD64 supplement, 5.2: Dynamic Linking.
func readStubs(im *image, symbols []elfSymbol) []stub {
	if im.elf.Machine != elf.EM_X86_64 {
		return nil
	}
	slots := readSlots(im, symbols)
	if len(slots) == 0 {
		return nil
	}
	var out []stub
	for _, s := range im.elf.Sections {
		if s.Flags&elf.SHF_EXECINSTR == 0 || !strings.HasPrefix(s.Name, ".plt") {
			continue
		}
		code, err := im.content(s)
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
				if name := slots[slot]; name != "" {
					out = append(out, stub{addr, addr + uint64(each), name})
				}
			}
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].addr < out[j].addr })
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

// readSlots returns by slot the name of the function whose address the dynamic
// linker writes there, or of the one that chooses it.
func readSlots(im *image, functions []elfSymbol) map[uint64]string {
	out := map[uint64]string{}
	for _, s := range im.elf.Sections {
		if s.Type != elf.SHT_RELA || int(s.Link) >= len(im.elf.Sections) || s.Flags&elf.SHF_ALLOC == 0 {
			continue
		}
		table := im.elf.Sections[s.Link]
		if table.Type != elf.SHT_DYNSYM || int(table.Link) >= len(im.elf.Sections) {
			continue
		}
		relocations, err := im.content(s)
		if err != nil {
			continue
		}
		symbols, err := im.content(table)
		if err != nil {
			continue
		}
		strs, err := im.content(im.elf.Sections[table.Link])
		if err != nil {
			continue
		}
		order := im.elf.ByteOrder
		for b := relocations; len(b) >= relocationSize; b = b[relocationSize:] {
			slot, info := order.Uint64(b), order.Uint64(b[8:])
			switch elf.R_X86_64(info & 0xffffffff) {
			case elf.R_X86_64_JMP_SLOT, elf.R_X86_64_GLOB_DAT:
				if at := (info >> 32) * symbolSize; at+symbolSize <= uint64(len(symbols)) {
					out[slot], _, _ = strings.Cut(text(strs, order.Uint32(symbols[at:])), "@")
				}
			case elf.R_X86_64_IRELATIVE:
				chooser := order.Uint64(b[16:])
				i := sort.Search(len(functions), func(i int) bool { return functions[i].addr >= chooser })
				if i < len(functions) && functions[i].addr == chooser {
					out[slot] = functions[i].text()
				}
			}
		}
	}
	return out
}

// stubAt finds the stub at an address.
func (o *Object) stubAt(addr uint64) (stub, bool) {
	i := sort.Search(len(o.stubs), func(i int) bool { return o.stubs[i].addr > addr })
	if i == 0 || addr >= o.stubs[i-1].end {
		return stub{}, false
	}
	return o.stubs[i-1], true
}
