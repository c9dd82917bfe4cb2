package symbol

import (
	"debug/elf"
	"fmt"
	"path"
	"sort"
	"strings"

	"golang.org/x/arch/x86/x86asm"

	"entelon/symbol/elfimage"
	"entelon/symbol/location"
	"entelon/symbol/symboltable"
)

// Defined is a function that a file has code of its own for.
type Defined struct {
	Name    string // for reading
	Linkage string // the linker's name
	Address uint64 // in the object's own address space
	Offset  uint64 // in the file, of the place at which each call passes once
	// Settled is the address of that place, 0 where it is the first
	// instruction. A Go function that needs a larger stack begins anew on it,
	// so that its first instruction may run several times for one call.
	Settled uint64
	// Chosen at run time: what stands at the address only chooses which code
	// is called.
	Chooses bool
}

// FunctionsByName returns the functions of the file that a name means, in
// order of their addresses, each address once. A name is the linker's name; or
// the name for reading, with or without its parameters; or the end of that
// behind a package's path or a namespace; and * in it stands for anything.
func FunctionsByName(o *Object, name string) (out []Defined, err error) {
	defer func() {
		if p := recover(); p != nil {
			out, err = nil, fmt.Errorf("%s: its symbols are damaged: %v", o.Path, p)
		}
	}()
	o.Prepare()
	o.once.Do(o.load)
	at := map[uint64]Defined{}
	add := func(d Defined) {
		if !meant(name, d) {
			return
		}
		if strings.HasSuffix(d.Linkage, coldSuffix) && d.Linkage != name {
			return // a part of the function, which is not called
		}
		old, known := at[d.Address]
		d.Settled = max(d.Settled, old.Settled)
		offset, ok := o.fileOffset(max(d.Address, d.Settled))
		if ok && (!known || d.Linkage == name || old.Linkage != name && d.Linkage < old.Linkage) {
			d.Offset = offset
			at[d.Address] = d
		}
	}
	if o.goTable != nil {
		o.goTable.each(func(f goFunc) {
			linkage := elfimage.Text(o.goTable.names, f.word(1))
			add(Defined{Name: goName(linkage), Linkage: linkage, Address: f.entry, Settled: settled(o, f)})
		})
	}
	images := []*elfimage.Image{o.image}
	if o.debug != nil {
		images = append(images, o.debug)
	}
	for _, im := range images {
		for table, typ := range []elf.SectionType{elf.SHT_DYNSYM, elf.SHT_SYMTAB} {
			for _, s := range im.ELF.Sections {
				if s.Type != typ {
					continue
				}
				for _, x := range symboltable.ReadTable(nil, im, s, uint8(table)) {
					linkage := x.Text()
					add(Defined{Name: location.Demangled(linkage), Linkage: linkage, Address: x.Addr, Chooses: x.Chooses})
				}
			}
		}
	}
	for _, d := range at {
		out = append(out, d)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Address < out[j].Address })
	return out, nil
}

// coldSuffix ends the symbol of what a compiler moved away from a function since it is seldom run.
const coldSuffix = ".cold"

// settled returns the address of the instruction with which a Go function
// begins its frame: the one before its depth changes for the first time. The
// stack has been looked at then, and is as the caller left it.
func settled(o *Object, f goFunc) uint64 {
	if o.file.Machine != elf.EM_X86_64 {
		return 0
	}
	rows := f.depths(nil, f.entry+4096)
	if len(rows) < 2 || rows[0].Depth != 0 || rows[1].Depth <= 0 {
		return 0
	}
	code := codeAt(o, f.entry, rows[1].Addr)
	for at := uint64(0); at < uint64(len(code)); {
		in, err := x86asm.Decode(code[at:], 64)
		if err != nil {
			return 0
		}
		next := at + uint64(in.Len)
		if next == uint64(len(code)) && (in.Op == x86asm.PUSH || in.Op == x86asm.SUB || in.Op == x86asm.ADD) {
			return f.entry + at
		}
		at = next
	}
	return 0
}

// meant reports whether a name that was given means a function.
func meant(name string, d Defined) bool {
	if name == d.Linkage || name == d.Name {
		return true
	}
	short := withoutParameters(d.Name)
	ends := []string{short, short[strings.LastIndexByte(short, '/')+1:]}
	for rest := short; ; {
		_, after, ok := strings.Cut(rest, "::")
		if !ok {
			break
		}
		ends = append(ends, after)
		rest = after
	}
	for _, e := range ends {
		if name == e {
			return true
		}
		if strings.Contains(name, "*") {
			if ok, err := path.Match(strings.ReplaceAll(name, "/", "\x01"), strings.ReplaceAll(e, "/", "\x01")); ok && err == nil {
				return true
			}
		}
	}
	return false
}

// withoutParameters cuts the parameters off a C++ or Rust name for reading.
// The last bracket that closes at the end opens them; "(anonymous namespace)"
// stands before.
func withoutParameters(name string) string {
	end := strings.TrimSuffix(name, " const")
	if !strings.HasSuffix(end, ")") {
		return name
	}
	depth := 0
	for i := len(end) - 1; i > 0; i-- {
		switch end[i] {
		case ')':
			depth++
		case '(':
			if depth--; depth == 0 {
				if strings.HasSuffix(end[:i], "operator") {
					return name
				}
				return end[:i]
			}
		}
	}
	return name
}

// Code returns a few bytes of the file from an offset on, nil where there are none.
func (o *Object) Code(offset uint64) []byte {
	const few = 16
	if offset+few > uint64(len(o.image.Bytes)) {
		return nil
	}
	return append([]byte(nil), o.image.Bytes[offset:offset+few]...)
}

// Image is the file's content; it is closed with the object.
func (o *Object) Image() *elfimage.Image { return o.image }

// fileOffset is the inverse of Address.
func (o *Object) fileOffset(addr uint64) (uint64, bool) {
	for _, p := range o.file.Progs {
		if p.Type == elf.PT_LOAD && addr >= p.Vaddr && addr < p.Vaddr+p.Filesz {
			return addr - p.Vaddr + p.Off, true
		}
	}
	return 0, false
}

// each visits all functions of the table.
func (t *goTable) each(visit func(goFunc)) {
	for i := range t.n {
		rec := uint64(t.order.Uint32(t.funcs[8*i+4:]))
		if rec+goFuncFixed <= uint64(len(t.funcs)) {
			visit(goFunc{t, t.text + uint64(t.order.Uint32(t.funcs[8*i:])), t.funcs[rec:]})
		}
	}
}
