package symbol

import (
	"debug/elf"
	"sort"

	"golang.org/x/arch/x86/x86asm"

	"entelon/symbol/elfimage"
	"entelon/symbol/symboltable"
)

// frameStarts returns where functions begin, in order, from the sorted search
// table in .eh_frame_hdr. Compilers write it for every function whether or
// not the file was stripped of symbols. The format is the Linux Standard
// Base's: version 1, three encodings, then pairs of 32-bit offsets relative
// to the section (DW_EH_PE_datarel | DW_EH_PE_sdata4, the only one linkers write).
func frameStarts(im *elfimage.Image) []uint64 {
	const datarelSdata4 = 0x3b
	f := im.ELF
	s := f.Section(".eh_frame_hdr")
	if s == nil {
		return nil
	}
	b, err := im.Section(".eh_frame_hdr")
	if err != nil || len(b) < 12 || b[0] != 1 || b[2] != 3 || b[3] != datarelSdata4 {
		return nil
	}
	n := min(uint64(f.ByteOrder.Uint32(b[8:])), uint64(len(b)-12)/8)
	starts := make([]uint64, 0, n)
	for i := range n {
		starts = append(starts, s.Addr+uint64(int64(int32(f.ByteOrder.Uint32(b[12+8*i:])))))
	}
	sort.Slice(starts, func(i, j int) bool { return starts[i] < starts[j] })
	return starts
}

// entryFunctions finds the C library's functions that start a program's main
// function and its threads. They are local to the library, so a stripped
// library has no name for them; but __libc_start_main is the only exported
// function that calls the one, and pthread_create the only one that takes the
// address of the other, so both are read off the instructions there.
func entryFunctions(o *Object) map[uint64]bool {
	found := map[uint64]bool{}
	if o.file.Machine != elf.EM_X86_64 {
		return found
	}
	begins := func(addr uint64) bool {
		i := sort.Search(len(o.starts), func(i int) bool { return o.starts[i] >= addr })
		return i < len(o.starts) && o.starts[i] == addr
	}
	for _, s := range o.symbols {
		switch s.Text() {
		case "__libc_start_main", "__libc_start_main_impl":
			scan(o.file, s, func(at uint64, in x86asm.Inst) {
				if rel, ok := in.Args[0].(x86asm.Rel); ok && in.Op == x86asm.CALL {
					target := at + uint64(in.Len) + uint64(int64(rel))
					if _, named := o.symbolAt(target); begins(target) && !named {
						found[target] = true
					}
				}
			})
		case "pthread_create", "__pthread_create_2_1":
			scan(o.file, s, func(at uint64, in x86asm.Inst) {
				m, ok := in.Args[1].(x86asm.Mem)
				if ok && in.Op == x86asm.LEA && m.Base == x86asm.RIP {
					if target := at + uint64(in.Len) + uint64(m.Disp); begins(target) {
						found[target] = true
					}
				}
			})
		}
	}
	return found
}

// scan decodes the instructions of one function.
func scan(f *elf.File, s symboltable.Symbol, visit func(at uint64, in x86asm.Inst)) {
	for _, sec := range f.Sections {
		if s.Addr < sec.Addr || s.End > sec.Addr+sec.Size || sec.Flags&elf.SHF_EXECINSTR == 0 || s.End-s.Addr > 1<<16 {
			continue
		}
		code := make([]byte, s.End-s.Addr)
		if _, err := sec.ReadAt(code, int64(s.Addr-sec.Addr)); err != nil {
			return
		}
		for at := 0; at < len(code); {
			in, err := x86asm.Decode(code[at:], 64)
			if err != nil {
				at++ // an instruction that the decoder does not know
				continue
			}
			visit(s.Addr+uint64(at), in)
			at += in.Len
		}
		return
	}
}
