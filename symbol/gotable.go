package symbol

import (
	"debug/elf"
	"encoding/binary"
	"fmt"
	"sort"

	"entelon/core/profile"
	"entelon/symbol/elfimage"
)

// goTable reads the function table that the Go linker puts into every binary
// (section .gopclntab), stripped or not. The runtime itself walks stacks with
// it, so it names every function, every line and every inlined call.
//
// Two layouts are known. Go 1.18 brought offsets relative to the start of the
// code; Go 1.20 (goMagic120) added the first line of each function and the
// present form of the inline tree. Only the latter is read; binaries of older
// toolchains fall back to their ELF symbols. From Go 1.26 on, the header no
// longer holds the start of the code, which is then taken from the symbol
// table or from the runtime's module record (section .go.module).
type goTable struct {
	order  binary.ByteOrder
	minLC  uint64
	text   uint64 // address that entries are relative to
	names  []byte
	cu     []byte
	files  []byte
	pc     []byte
	funcs  []byte // functab, then the function records
	n      int    // number of functions
	inline []byte // go:func.*, which holds the inline trees; nil if not found
	object *Object
	own    packages
}

const (
	goMagic120   = 0xfffffff1
	goHeaderSize = 8 + 8*8
	// Layout of a function record, in bytes, up to its variable part.
	goFuncFixed     = 44
	pcdataInline    = 2 // PCDATA_InlTreeIndex of internal/abi
	funcInline      = 3 // FUNCDATA_InlTree of internal/abi
	inlinedCallSize = 16
	noFuncData      = 1<<32 - 1
	// Where the module record of Go 1.20 and later holds what is needed here.
	moduleText   = 176
	moduleGofunc = 320
)

func goSection(f *elf.File) *elf.Section {
	if s := f.Section(".gopclntab"); s != nil {
		return s
	}
	return f.Section(".data.rel.ro.gopclntab")
}

// openGo opens the function table, once.
func openGo(o *Object) {
	o.onceGo.Do(func() {
		defer func() {
			if p := recover(); p != nil {
				o.goTable = nil
				fault(o, fmt.Errorf("its Go function table is damaged: %v", p))
			}
		}()
		o.goTable = openGoTable(o)
	})
}

func openGoTable(o *Object) *goTable {
	s := goSection(o.file)
	if s == nil {
		return nil
	}
	b, err := o.image.Content(s)
	if err != nil || len(b) < goHeaderSize || o.file.ByteOrder.Uint32(b) != goMagic120 || b[7] != 8 {
		return nil
	}
	order := o.file.ByteOrder
	word := func(i int) uint64 { return order.Uint64(b[8+8*i:]) }
	t := &goTable{order: order, minLC: uint64(b[6]), n: int(word(0)), text: word(2), object: o}
	part := func(i int) []byte {
		if off := word(i); off < uint64(len(b)) {
			return b[off:]
		}
		return nil
	}
	t.names, t.cu, t.files, t.pc, t.funcs = part(3), part(4), part(5), part(6), part(7)
	if t.n <= 0 || uint64(t.n)*8+4 > uint64(len(t.funcs)) {
		return nil
	}
	syms := goSymbols(o.file)
	if t.text == 0 {
		t.text = syms["runtime.text"]
	}
	gofunc := syms["go:func.*"]
	if m := o.file.Section(".go.module"); m != nil && (t.text == 0 || gofunc == 0) {
		if t.text == 0 {
			t.text = relocated(o.image, m, moduleText)
		}
		if gofunc == 0 {
			gofunc = relocated(o.image, m, moduleGofunc)
		}
	}
	if t.text == 0 {
		if x := o.file.Section(".text"); x != nil {
			t.text = x.Addr
		}
	}
	t.inline = sliceAt(o.image, gofunc)
	t.own = ownPackages(o)
	return t
}

// goSymbols picks the linker's marks out of the symbol table, if there is one.
func goSymbols(f *elf.File) map[string]uint64 {
	found := map[string]uint64{}
	syms, err := f.Symbols()
	if err != nil {
		return found
	}
	for _, s := range syms {
		if s.Name == "runtime.text" || s.Name == "go:func.*" {
			found[s.Name] = s.Value
		}
	}
	return found
}

// relocated reads an address from a section as the loader will set it, less
// the load address: position-independent files keep it in a relocation.
func relocated(im *elfimage.Image, s *elf.Section, offset uint64) uint64 {
	f := im.ELF
	var b [8]byte
	if _, err := s.ReadAt(b[:], int64(offset)); err != nil {
		return 0
	}
	if v := f.ByteOrder.Uint64(b[:]); v != 0 {
		return v
	}
	for _, r := range f.Sections {
		if r.Type != elf.SHT_RELA {
			continue
		}
		d, err := im.Content(r)
		if err != nil {
			continue
		}
		for ; len(d) >= 24; d = d[24:] {
			if f.ByteOrder.Uint64(d) == s.Addr+offset && uint32(f.ByteOrder.Uint64(d[8:])) == uint32(elf.R_X86_64_RELATIVE) {
				return f.ByteOrder.Uint64(d[16:])
			}
		}
	}
	return 0
}

// sliceAt returns the bytes of the section that holds addr, from addr on.
func sliceAt(im *elfimage.Image, addr uint64) []byte {
	for _, s := range im.ELF.Sections {
		if addr != 0 && s.Type == elf.SHT_PROGBITS && addr >= s.Addr && addr < s.Addr+s.Size {
			if b, err := im.Content(s); err == nil && addr-s.Addr < uint64(len(b)) {
				return b[addr-s.Addr:]
			}
		}
	}
	return nil
}

// goFunc is one function's record.
type goFunc struct {
	t     *goTable
	entry uint64
	b     []byte
}

func (t *goTable) find(addr uint64) (goFunc, bool) {
	if addr < t.text {
		return goFunc{}, false
	}
	off := addr - t.text
	at := func(i int) uint64 { return uint64(t.order.Uint32(t.funcs[8*i:])) }
	i := sort.Search(t.n, func(i int) bool { return at(i) > off })
	if i == 0 || off >= at(t.n) {
		return goFunc{}, false
	}
	rec := uint64(t.order.Uint32(t.funcs[8*(i-1)+4:]))
	if rec+goFuncFixed > uint64(len(t.funcs)) {
		return goFunc{}, false
	}
	return goFunc{t, t.text + at(i-1), t.funcs[rec:]}, true
}

func (f goFunc) word(i int) uint32 { return f.t.order.Uint32(f.b[4*i:]) }

func (f goFunc) startLine() uint32 { return f.word(9) }

// pcdata returns the table of one kind of values by address, 0 if there is none.
func (f goFunc) pcdata(kind uint32) uint32 {
	if at := goFuncFixed + 4*kind; kind < f.word(7) && int(at)+4 <= len(f.b) {
		return f.t.order.Uint32(f.b[at:])
	}
	return 0
}

// inlineTree returns the bytes of the function's inline tree, nil if none.
func (f goFunc) inlineTree() []byte {
	n := uint32(f.b[43])
	at := goFuncFixed + 4*f.word(7) + 4*funcInline
	if n <= funcInline || int(at)+4 > len(f.b) {
		return nil
	}
	off := f.t.order.Uint32(f.b[at:])
	if off == noFuncData || uint64(off) >= uint64(len(f.t.inline)) {
		return nil
	}
	return f.t.inline[off:]
}

// value looks a program counter up in one of the function's tables, which
// hold pairs of (difference of value, difference of address) as varints.
func (f goFunc) value(table uint32, pc uint64) int32 {
	if table == 0 || uint64(table) >= uint64(len(f.t.pc)) {
		return -1
	}
	b := f.t.pc[table:]
	at, v := f.entry, int32(-1)
	for first := true; ; first = false {
		dv, n := binary.Uvarint(b)
		if n <= 0 || (dv == 0 && !first) {
			return -1
		}
		b = b[n:]
		dpc, n := binary.Uvarint(b)
		if n <= 0 {
			return -1
		}
		b = b[n:]
		v += int32(uint32(dv)>>1) ^ -int32(dv&1)
		at += dpc * f.t.minLC
		if pc < at {
			return v
		}
	}
}

func (f goFunc) file(pc uint64) string {
	no := f.value(f.word(5), pc)
	at := (uint64(f.word(8)) + uint64(uint32(no))) * 4
	if no < 0 || at+4 > uint64(len(f.t.cu)) {
		return ""
	}
	return elfimage.Text(f.t.files, f.t.order.Uint32(f.t.cu[at:]))
}

func (f goFunc) line(pc uint64) uint32 { return uint32(max(0, f.value(f.word(6), pc))) }

// locate returns the functions at an address, the innermost first, or nil.
func (t *goTable) locate(addr uint64) []Location {
	f, ok := t.find(addr)
	if !ok {
		return nil
	}
	var out []Location
	pc := addr
	if tree := f.inlineTree(); tree != nil {
		for range 256 { // deeper inlining than the compiler ever does
			i := f.value(f.pcdata(pcdataInline), pc)
			if i < 0 || (int(i)+1)*inlinedCallSize > len(tree) {
				break
			}
			call := tree[int(i)*inlinedCallSize:]
			out = append(out, t.location(elfimage.Text(t.names, t.order.Uint32(call[4:])), f.file(pc), f.line(pc), t.order.Uint32(call[12:])))
			out[len(out)-1].Inlined = true
			pc = f.entry + uint64(t.order.Uint32(call[8:]))
		}
	}
	l := t.location(elfimage.Text(t.names, f.word(1)), f.file(pc), f.line(pc), f.startLine())
	l.Function = f.entry
	return append(out, l)
}

func (t *goTable) location(name, file string, line, start uint32) Location {
	l := Location{Name: goName(name), File: file, Line: line, Start: start, Entry: entryNames[name]}
	l.Kind = t.own.kind(name)
	if t.object.Kind == profile.KindKernel {
		l.Kind = profile.KindKernel
	}
	if l.Name != name {
		l.Linkage = name
	}
	return l
}
