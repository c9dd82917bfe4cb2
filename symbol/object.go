package symbol

import (
	"debug/elf"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"sync"

	"entelon/core/profile"
)

// Object is one ELF file with everything in it that names addresses. Its
// methods may be called by one goroutine at a time.
type Object struct {
	Path    string // as the sampled process saw it
	BuildID string // lower-case hexadecimal, "" if none
	Kind    profile.ModuleKind
	Fault   error // why names or lines are missing that the file should have; nil if none are

	file    *elf.File
	closer  io.Closer
	symbols []elfSymbol
	starts  []uint64 // where functions begin, by the frame tables
	entries map[uint64]bool
	goTable *goTable
	lines   *lineTables
	once    sync.Once
}

type elfSymbol struct {
	addr, end uint64
	name      string
	rank      uint8 // the better of two symbols for one address has the higher
}

// OpenObject reads the outline of an ELF file; path names it in results. The
// Object closes f. Symbols are read when first asked for.
func OpenObject(f *os.File, path string, kind profile.ModuleKind) (*Object, error) {
	o, err := NewObject(f, path, kind)
	if err != nil {
		f.Close()
		return nil, err
	}
	o.closer = f
	return o, nil
}

// NewObject reads the outline of an ELF file that is in memory or open elsewhere.
func NewObject(r io.ReaderAt, path string, kind profile.ModuleKind) (o *Object, err error) {
	defer func() {
		// The standard reader of ELF is not meant for hostile files.
		if p := recover(); p != nil {
			o, err = nil, fmt.Errorf("reading %s: the file is damaged: %v", path, p)
		}
	}()
	f, err := elf.NewFile(r)
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", path, err)
	}
	return &Object{Path: path, Kind: kind, file: f, BuildID: buildID(f)}, nil
}

// Close lets go of the file.
func (o *Object) Close() error {
	if o.closer == nil {
		return nil
	}
	return o.closer.Close()
}

// Address translates an offset in the file into the object's own address
// space; ok is false where no loadable segment holds the offset.
func (o *Object) Address(offset uint64) (addr uint64, ok bool) {
	for _, p := range o.file.Progs {
		if p.Type == elf.PT_LOAD && offset >= p.Off && offset < p.Off+p.Filesz {
			return p.Vaddr + offset - p.Off, true
		}
	}
	// A mapping begins at a page boundary, which may lie before its segment.
	for _, p := range o.file.Progs {
		if p.Type == elf.PT_LOAD && offset >= p.Off&^0xfff && offset < p.Off+p.Filesz {
			return p.Vaddr + offset - p.Off, true
		}
	}
	return 0, false
}

// Locate returns the functions active at an address of the object's own
// address space, the innermost first. It always returns at least one; an
// address that nothing names gets module and offset.
func (o *Object) Locate(addr uint64) []Location {
	o.once.Do(o.load)
	if o.goTable != nil {
		if l := o.goTable.locate(addr); l != nil {
			return l
		}
	}
	s, found := o.symbolAt(addr)
	if !found {
		return []Location{o.unnamed(addr)}
	}
	name := demangled(s.name)
	l := Location{Name: name, Kind: o.Kind, Function: s.addr, Entry: entryNames[s.name] || o.entries[s.addr]}
	if name != s.name {
		l.Linkage = s.name
	}
	if o.lines != nil {
		l.File, l.Start = o.lines.function(s.addr)
		file, line := o.lines.line(addr)
		if l.File == "" {
			l.File = file
		}
		if file == l.File {
			l.Line = line
		}
	}
	return []Location{l}
}

// unnamed gives an address the best name that is true: the module and the
// offset at which its function begins where the frame tables tell, else the
// offset of the address itself.
func (o *Object) unnamed(addr uint64) Location {
	l := Location{Kind: o.Kind, Unnamed: true}
	at := addr
	if i := sort.Search(len(o.starts), func(i int) bool { return o.starts[i] > addr }); i > 0 {
		at = o.starts[i-1]
		l.Function = at
		l.Entry = o.entries[at]
	}
	l.Name = fmt.Sprintf("%s+0x%x", filepath.Base(o.Path), at)
	return l
}

func (o *Object) symbolAt(addr uint64) (elfSymbol, bool) {
	i := sort.Search(len(o.symbols), func(i int) bool { return o.symbols[i].addr > addr })
	if i == 0 || addr >= o.symbols[i-1].end {
		return elfSymbol{}, false
	}
	return o.symbols[i-1], true
}

func (o *Object) load() {
	defer func() {
		if p := recover(); p != nil {
			o.symbols, o.goTable, o.lines = nil, nil, nil
			o.Fault = fmt.Errorf("%s: its symbols are damaged: %v", o.Path, p)
		}
	}()
	o.starts = frameStarts(o.file)
	o.symbols = readSymbols(o.file)
	o.entries = entryFunctions(o)
	o.goTable = openGoTable(o)
	if o.lines, o.Fault = openLines(o.file); o.Fault != nil {
		o.Fault = fmt.Errorf("%s: %w", o.Path, o.Fault)
	}
}

// readSymbols returns the functions of both symbol tables by address, each
// address once, with ends that do not overlap the next.
func readSymbols(f *elf.File) []elfSymbol {
	var all []elfSymbol
	for table, read := range []func() ([]elf.Symbol, error){f.DynamicSymbols, f.Symbols} {
		syms, err := read()
		if err != nil {
			continue // a file without this table is the normal case
		}
		for _, s := range syms {
			if x, ok := functionSymbol(f, s); ok {
				x.rank += uint8(table) // the full table knows better than the dynamic one
				all = append(all, x)
			}
		}
	}
	sort.Slice(all, func(i, j int) bool {
		a, b := all[i], all[j]
		if a.addr != b.addr {
			return a.addr < b.addr
		}
		if a.rank != b.rank {
			return a.rank > b.rank
		}
		return a.name < b.name
	})
	out := all[:0]
	for _, s := range all {
		if n := len(out); n > 0 && out[n-1].addr == s.addr {
			continue
		}
		out = append(out, s)
	}
	for i := range out {
		s := &out[i]
		next := sectionEnd(f, s.addr)
		if i+1 < len(out) {
			next = min(next, out[i+1].addr)
		}
		if s.end == s.addr || s.end > next {
			s.end = next // hand-written code often states no size
		}
	}
	return out
}

func functionSymbol(f *elf.File, s elf.Symbol) (elfSymbol, bool) {
	typ := elf.ST_TYPE(s.Info)
	if s.Section == elf.SHN_UNDEF || int(s.Section) >= len(f.Sections) || s.Name == "" || s.Value == 0 {
		return elfSymbol{}, false
	}
	if f.Sections[s.Section].Flags&elf.SHF_EXECINSTR == 0 {
		return elfSymbol{}, false
	}
	x := elfSymbol{addr: s.Value, end: s.Value + s.Size, name: s.Name}
	switch {
	case typ == elf.STT_FUNC || typ == elf.STT_GNU_IFUNC:
		x.rank = 4
	case typ == elf.STT_NOTYPE && !strings.HasPrefix(s.Name, "$") && !strings.HasPrefix(s.Name, ".L"):
		// a label in hand-written code
	default:
		return elfSymbol{}, false
	}
	if s.Size > 0 {
		x.rank += 8
	}
	if elf.ST_BIND(s.Info) == elf.STB_GLOBAL {
		x.rank += 2
	}
	x.name, _, _ = strings.Cut(x.name, "@")
	return x, x.end >= x.addr
}

func sectionEnd(f *elf.File, addr uint64) uint64 {
	for _, s := range f.Sections {
		if s.Flags&elf.SHF_EXECINSTR != 0 && addr >= s.Addr && addr < s.Addr+s.Size {
			return s.Addr + s.Size
		}
	}
	return addr
}

// buildID returns the identity that the linker gave the file, in hexadecimal.
func buildID(f *elf.File) string {
	for _, p := range f.Progs {
		if p.Type != elf.PT_NOTE || p.Filesz > 1<<20 {
			continue
		}
		b := make([]byte, p.Filesz)
		if _, err := p.ReadAt(b, 0); err != nil {
			continue
		}
		if id := noteOf(b, f, "GNU", 3); id != nil {
			return hex.EncodeToString(id)
		}
	}
	for _, sec := range f.Sections { // some linkers leave notes out of the segments
		if sec.Type != elf.SHT_NOTE || sec.Size > 1<<20 {
			continue
		}
		if b, err := sec.Data(); err == nil {
			if id := noteOf(b, f, "GNU", 3); id != nil {
				return hex.EncodeToString(id)
			}
		}
	}
	return ""
}

// noteOf finds a note by owner and type among the notes of a segment.
func noteOf(b []byte, f *elf.File, owner string, typ uint32) []byte {
	for len(b) >= 12 {
		nameLen, descLen, t := f.ByteOrder.Uint32(b), f.ByteOrder.Uint32(b[4:]), f.ByteOrder.Uint32(b[8:])
		b = b[12:]
		name, desc := (uint64(nameLen)+3)&^3, (uint64(descLen)+3)&^3
		if name+uint64(descLen) > uint64(len(b)) {
			return nil
		}
		if t == typ && strings.TrimRight(string(b[:nameLen]), "\x00") == owner {
			return b[name : name+uint64(descLen)]
		}
		b = b[min(name+desc, uint64(len(b))):]
	}
	return nil
}
