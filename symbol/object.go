package symbol

import (
	"crypto/sha256"
	"debug/elf"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"sort"
	"strings"
	"sync"

	"entelon/core/profile"
	"entelon/symbol/cache"
	"entelon/symbol/dwarfinfo"
	"entelon/symbol/elfimage"
	"entelon/symbol/instructions"
	"entelon/symbol/location"
	"entelon/symbol/symboltable"
)

// Object is one ELF file with everything in it, and in its separate debug
// file, that names addresses. Its methods may be called by one goroutine at a
// time. Nothing is read before the first address is asked for.
type Object struct {
	Path    string // as the sampled process saw it
	BuildID string // lower-case hexadecimal, "" if none
	Kind    profile.ModuleKind
	Fault   error // why names or lines are missing that the file should have; nil if none are

	// DebugFile is the separate debug file that was found, "" if none.
	DebugFile string

	image    *elfimage.Image
	file     *elf.File
	debug    *elfimage.Image // the separate debug file, nil if none
	shared   *elfimage.Image // what several debug files have in common, nil if none
	finder   *Finder
	symbols  []symboltable.Symbol
	starts   []uint64 // where functions begin, by the frame tables
	entries  map[uint64]bool
	goTable  *goTable
	dwarf    *dwarfinfo.Tables
	once     sync.Once
	onceDW   sync.Once
	oncePre  sync.Once
	onceGo   sync.Once
	onceCode sync.Once
	code     *instructions.Code
	mu       sync.Mutex // guards Fault while Prepare runs

	key     string                // of the object's names in the cache, "" where they are not kept
	known   map[uint64][]Location // that were asked for
	cached  *cache.Packed         // as the cache has them; nil: it has none
	learned bool                  // known has more than the cache
}

// OpenObject reads the outline of an ELF file; path names it in results.
// OpenObject closes f. The Finder, which may be nil, is asked for separate
// debug files.
func OpenObject(f *os.File, path string, kind profile.ModuleKind, finder *Finder) (*Object, error) {
	im, err := elfimage.OpenImage(f, path)
	if err = errors.Join(err, f.Close()); err != nil {
		return nil, err
	}
	return newObject(im, path, kind, finder), nil
}

// NewObject reads the outline of an ELF file that is in memory.
func NewObject(b []byte, path string, kind profile.ModuleKind) (*Object, error) {
	im, err := elfimage.NewImage(b, path)
	if err != nil {
		return nil, err
	}
	return newObject(im, path, kind, nil), nil
}

func newObject(im *elfimage.Image, path string, kind profile.ModuleKind, finder *Finder) *Object {
	return &Object{Path: path, Kind: kind, image: im, file: im.ELF, finder: finder, BuildID: buildID(im.ELF)}
}

// Prepare finds the separate debug file, which may have to be fetched, and
// what the cache knows. It may run in a goroutine of its own before the first
// call of another method; that waits for it.
func (o *Object) Prepare() {
	o.oncePre.Do(func() {
		defer debug.SetPanicOnFault(debug.SetPanicOnFault(true))
		defer func() {
			if p := recover(); p != nil {
				fault(o, fmt.Errorf("its debug file could not be read: %v", p))
			}
		}()
		if o.finder == nil {
			return
		}
		if !hasDebug(o) {
			fault(o, findDebug(o))
		}
		if o.finder.Cache == nil || o.BuildID == "" {
			return
		}
		if o.key = namesKey(o); o.key == "" {
			return
		}
		o.cached = o.finder.Cache.Names(o.key)
	})
}

// namesKey changes with everything that the names depend on: the bytes of all
// files that are read, since a build ID can be forged. "" where that cannot be
// told.
func namesKey(o *Object) string {
	text := fmt.Sprintf("%d %s", cache.NamesVersion, o.BuildID)
	for _, im := range []*elfimage.Image{o.image, o.debug, o.shared} {
		if im == nil {
			text += " none"
			continue
		}
		text += fmt.Sprintf(" %d %s", len(im.Bytes), o.finder.Cache.Digest(im))
	}
	sum := sha256.Sum256([]byte(text))
	return "names-" + hex.EncodeToString(sum[:16])
}

// rememberNames writes what was found out to the cache.
func rememberNames(o *Object) {
	if !o.learned || o.Fault != nil {
		return
	}
	for _, ls := range o.known {
		for i := range ls {
			if ls[i].Kind == o.Kind && o.goTable == nil {
				ls[i].Kind = profile.KindUnknown // whose it is depends on the program that loads it
			}
		}
	}
	o.finder.Cache.KeepNames(o.key, o.known, o.cached)
}

// Close lets go of the files.
func (o *Object) Close() error {
	rememberNames(o)
	err := o.image.Close()
	for _, im := range []*elfimage.Image{o.debug, o.shared} {
		if im != nil {
			err = errors.Join(err, im.Close())
		}
	}
	return err
}

// Size returns the size of the file in bytes.
func (o *Object) Size() int { return len(o.image.Bytes) }

// fault keeps the first reason for which something is missing.
func fault(o *Object, err error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if err != nil && o.Fault == nil {
		o.Fault = fmt.Errorf("%s: %w", o.Path, err)
	}
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
	o.Prepare()
	if l, ok := o.known[addr]; ok {
		return l
	}
	l := o.cached.Find(addr)
	for i := range l {
		if l[i].Kind == profile.KindUnknown {
			l[i].Kind = o.Kind
		}
	}
	if l == nil {
		o.once.Do(o.load)
		l = o.locate(addr)
		o.learned = o.key != ""
	}
	if o.key != "" {
		if o.known == nil {
			o.known = map[uint64][]Location{}
		}
		o.known[addr] = l
	}
	return l
}

func (o *Object) locate(addr uint64) (at []Location) {
	defer func() {
		// A file that is cut short while it is mapped faults when it is read.
		if p := recover(); p != nil {
			fault(o, fmt.Errorf("its names could not be read: %v", p))
			at = []Location{unnamed(o, addr)}
		}
	}()
	if o.goTable != nil {
		if l := o.goTable.locate(addr); l != nil {
			return l
		}
	}
	s, found := o.symbolAt(addr)
	o.onceDW.Do(func() { loadDWARF(o) })
	if o.dwarf != nil {
		if l := o.dwarf.Locate(addr); len(l) > 0 {
			return finishLocations(o, l, s, found)
		}
	}
	if !found {
		return []Location{unnamed(o, addr)}
	}
	l := Location{Kind: o.Kind, Function: s.Addr, Entry: isEntry(o, s)}
	l.Name, l.Linkage = location.Names(s.Text())
	if o.dwarf != nil {
		l.File, l.Line = o.dwarf.Line(addr)
	}
	return []Location{l}
}

func isEntry(o *Object, s symboltable.Symbol) bool { return o.entries[s.Addr] || entryNames[s.Text()] }

// finishLocations completes what the debug information tells by what the symbol table
// knows: the linker's name of the function that all others are inlined into.
func finishLocations(o *Object, l []Location, s symboltable.Symbol, found bool) []Location {
	for i := range l {
		l[i].Kind = whose(l[i].File, o.Kind)
	}
	last := &l[len(l)-1]
	if found {
		last.Entry = isEntry(o, s) || entryNames[last.Name]
		if linkage := s.Text(); last.Linkage == "" && linkage != last.Name {
			last.Linkage = linkage
			if strings.HasPrefix(linkage, "_Z") || last.Name == "" {
				last.Name = location.Demangled(linkage) // the debug information has no parameters for constructors
			}
		}
	}
	if last.Name == "" {
		last.Name, last.Unnamed = unnamed(o, last.Function).Name, true
	}
	return l
}

// unnamed gives an address the best name that is true: the module and the
// offset at which its function begins where the frame tables tell, else the
// offset of the address itself.
func unnamed(o *Object, addr uint64) Location {
	l := Location{Kind: o.Kind, Unnamed: true}
	at := addr
	if i := sort.Search(len(o.starts), func(i int) bool { return o.starts[i] > addr }); i > 0 {
		at = o.starts[i-1]
		l.Function = at
		l.Entry = o.entries[at]
	} else if len(o.starts) == 0 {
		// Where no table tells where functions begin, what is called does.
		if code := o.Instructions(); code != nil {
			if start, ok := code.Begins(addr); ok {
				at, l.Function, l.Entry = start, start, o.entries[start]
			}
		}
	}
	l.Name = fmt.Sprintf("%s+0x%x", filepath.Base(o.Path), at)
	return l
}

func (o *Object) symbolAt(addr uint64) (symboltable.Symbol, bool) {
	i := sort.Search(len(o.symbols), func(i int) bool { return o.symbols[i].Addr > addr })
	if i == 0 || addr >= o.symbols[i-1].End {
		return symboltable.Symbol{}, false
	}
	return o.symbols[i-1], true
}

func (o *Object) load() {
	defer func() {
		if p := recover(); p != nil {
			o.symbols, o.goTable = nil, nil
			fault(o, fmt.Errorf("its symbols are damaged: %v", p))
		}
	}()
	o.starts = frameStarts(o.image)
	images := []*elfimage.Image{o.image}
	if o.debug != nil {
		images = append(images, o.debug)
	}
	o.symbols = withStubs(o.image, symboltable.Read(images...))
	o.entries = entryFunctions(o)
	if at := o.file.Entry; at != 0 && (o.file.Type == elf.ET_EXEC || o.file.Type == elf.ET_DYN) {
		// It has no tables in some C libraries, and is not a part of what stands before it.
		o.entries[at] = true
		if i, is := slices.BinarySearch(o.starts, at); !is && len(o.starts) > 0 {
			o.starts = slices.Insert(o.starts, i, at)
		}
	}
	openGo(o)
}

func loadDWARF(o *Object) {
	defer func() {
		if p := recover(); p != nil {
			o.dwarf = nil
			fault(o, fmt.Errorf("its debug information is damaged: %v", p))
		}
	}()
	im := o.image
	if o.debug != nil {
		im = o.debug
	}
	var err error
	o.dwarf, err = dwarfinfo.Open(im, o.shared, func(err error) { fault(o, err) })
	fault(o, err)
}

// hasDebug reports whether the file itself holds debug information.
func hasDebug(o *Object) bool {
	for _, name := range []string{".debug_info", ".zdebug_info"} {
		if s := o.file.Section(name); s != nil && s.Type != elf.SHT_NOBITS {
			return true
		}
	}
	return false
}

// ExportsOnly reports whether only the functions that other files may call have
// names: the others are in a separate debug file, which was not found.
func (o *Object) ExportsOnly() bool {
	return o.DebugFile == "" && o.file.Section(".symtab") == nil && !hasDebug(o) && !o.HasGoSection() && o.file.Section(".dynsym") != nil
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
