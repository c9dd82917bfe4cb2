package symbol

import (
	"debug/elf"
	"encoding/binary"

	"entelon/symbol/instructions"
)

// Instructions are the object's machine code, for finding callers and beginnings of functions
// where no table tells; nil where there is none.
func (o *Object) Instructions() *instructions.Code {
	o.onceCode.Do(func() {
		if base, code := machineCode(o); code != nil {
			o.code = instructions.New(base, code, func() []uint64 { return functionStarts(o) }, func() []uint64 { return codePointers(o, base, len(code)) })
			o.code.Entry = o.file.Entry
		}
	})
	return o.code
}

// machineCode returns the largest executable segment, as far as the file has it, and where
// it is in the object's own address space; nil where there is none, or it is for another
// processor.
func machineCode(o *Object) (base uint64, code []byte) {
	if o.file.Machine != elf.EM_X86_64 {
		return 0, nil
	}
	for _, p := range o.file.Progs {
		if p.Type != elf.PT_LOAD || p.Flags&elf.PF_X == 0 || p.Filesz <= uint64(len(code)) || p.Off > uint64(len(o.image.Bytes)) || p.Filesz > uint64(len(o.image.Bytes))-p.Off {
			continue
		}
		base, code = p.Vaddr, o.image.Bytes[p.Off:p.Off+p.Filesz:p.Off+p.Filesz]
	}
	return base, code
}

// functionStarts are the addresses at which functions begin, by the symbols, the frame
// tables and the file's own entry, in no order.
func functionStarts(o *Object) (out []uint64) {
	o.Prepare()
	o.once.Do(o.load)
	out = append(out, o.starts...)
	if o.file.Entry != 0 {
		out = append(out, o.file.Entry)
	}
	for _, s := range o.symbols {
		out = append(out, s.Addr)
	}
	return out
}

// codePointers are the words of the file's data that point into a stretch of code, in no
// order: of a program at fixed addresses the words themselves, of others what the loader is
// to write there.
func codePointers(o *Object, base uint64, length int) (out []uint64) {
	const word, relocation, relative = 8, 24, 8 // R_X86_64_RELATIVE
	le := binary.LittleEndian
	within := func(v uint64) bool { return v-base < uint64(length) }
	for _, s := range o.file.Sections {
		b, err := o.image.Content(s)
		if err != nil {
			continue // damaged; its pointers are then not known
		}
		switch {
		case s.Type == elf.SHT_RELA:
			for ; len(b) >= relocation; b = b[relocation:] {
				if v := le.Uint64(b[16:]); le.Uint32(b[8:]) == relative && within(v) {
					out = append(out, v)
				}
			}
		case s.Type == elf.SHT_PROGBITS && s.Flags&elf.SHF_ALLOC != 0 && s.Flags&elf.SHF_EXECINSTR == 0, s.Type == elf.SHT_INIT_ARRAY, s.Type == elf.SHT_FINI_ARRAY:
			for ; len(b) >= word; b = b[word:] {
				if v := le.Uint64(b); within(v) {
					out = append(out, v)
				}
			}
		}
	}
	return out
}
