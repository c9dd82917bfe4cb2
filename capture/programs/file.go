package programs

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"

	"entelon/core/profile"
	"entelon/resolve/raw"
	"entelon/runtimes"
	"entelon/runtimes/python"
	"entelon/symbol"
	"entelon/symbol/cache"
	"entelon/symbol/elfimage"
	"entelon/symbol/instructions"
	"entelon/unwind"
)

// file is a file, or another thing that holds code, that processes have mapped. It
// implements resolve.Module.
type file struct {
	name   string
	kind   profile.ModuleKind
	world  *World
	mapped *os.File // open from the moment the mapping was seen, until it is read
	object *symbol.Object
	failed error // why the object could not be read
	tried  bool
	ready  chan struct{} // closed when the object's debug file is there or known not to be

	table      *unwind.Table
	tableFault error // why some of it is missing
	tabled     bool  // table was made, or there is none
	asked      int   // for instructions
	golang     *symbol.GoRuntime
	goLooked   bool
	cpython    *python.Interpreter
	pyLooked   bool
}

// openFile opens what a process has mapped here and now, through the process's own view
// of the file system, so that it can still be read when the process or the file has gone.
func openFile(w *World, pid uint32, m *raw.Mapping) *file {
	f := &file{name: m.Name, kind: w.kind(m.Name), world: w}
	if strings.HasPrefix(m.Name, "/") && !strings.HasPrefix(m.Name, "//") {
		f.mapped, f.failed = openMapped(pid, m)
	}
	return f
}

// openMapped opens the very file that a process has mapped.
func openMapped(pid uint32, m *raw.Mapping) (*os.File, error) {
	var last error
	for _, path := range []string{
		fmt.Sprintf("/proc/%d/root%s", pid, m.Name),
		fmt.Sprintf("/proc/%d/map_files/%x-%x", pid, m.Start, m.End),
		m.Name,
	} {
		f, err := elfimage.OpenRegular(path)
		if err != nil {
			last = err
			continue
		}
		var st unix.Stat_t
		if err := unix.Fstat(int(f.Fd()), &st); err == nil && (st.Ino == m.Inode || m.Inode == 0) && st.Mode&unix.S_IFMT == unix.S_IFREG {
			return f, nil
		}
		f.Close()
		last = errors.New("the file was replaced after the program had started")
	}
	return nil, fmt.Errorf("%s: %w", m.Name, last)
}

func (w *World) kind(name string) profile.ModuleKind {
	switch {
	case runtimes.Holding(path.Base(name)) != nil:
		return profile.KindRuntime
	case name == w.main || (w.own != "" && strings.HasPrefix(name, w.own)):
		return profile.KindOwn
	case strings.HasPrefix(name, "/memfd:") || strings.HasPrefix(name, "//") || strings.HasPrefix(name, "[anon:") || strings.HasPrefix(name, "anon_inode:"):
		return profile.KindJIT
	case name == "[vdso]" || name == "[vsyscall]":
		return profile.KindKernel
	case strings.HasPrefix(name, "["):
		return profile.KindUnknown
	}
	return profile.KindLibrary
}

// open reads the outline of the object, once.
func (f *file) open() {
	if f.tried {
		return
	}
	f.tried = true
	switch {
	case f.name == "[vdso]":
		f.object, f.failed = openVDSO(f.kind)
	case f.mapped != nil:
		f.object, f.failed = symbol.OpenObject(f.mapped, f.name, f.kind, f.world.finder)
		f.mapped = nil
	}
	if finder := f.world.finder; f.object == nil || finder == nil || len(finder.Servers) == 0 {
		return
	}
	// Fetching a debug file may take long, so it begins as soon as the module
	// is met, and samples wait for their names aside.
	f.ready = make(chan struct{})
	go func() {
		defer close(f.ready)
		f.object.Prepare()
	}()
}

// Coming implements resolve.Module.
func (f *file) Coming() bool {
	if f.open(); f.ready == nil {
		return false
	}
	select {
	case <-f.ready:
		f.ready = nil
		return false
	default:
		return true
	}
}

// Await implements resolve.Module.
func (f *file) Await() {
	if f.ready != nil {
		<-f.ready
	}
}

// Name implements resolve.Module.
func (f *file) Name() string { return f.name }

// Kind implements resolve.Module.
func (f *file) Kind() profile.ModuleKind { return f.kind }

// Readable implements resolve.Module.
func (f *file) Readable() bool {
	f.open()
	return f.object != nil
}

// BuildID implements resolve.Module.
func (f *file) BuildID() string {
	if f.object == nil {
		return ""
	}
	return f.object.BuildID
}

// Address implements resolve.Module.
func (f *file) Address(offset uint64) (uint64, bool) { return f.object.Address(offset) }

// Locate implements resolve.Module.
func (f *file) Locate(address uint64) []symbol.Location { return f.object.Locate(address) }

// Go implements resolve.Module.
func (f *file) Go() *symbol.GoRuntime {
	if f.goLooked {
		return f.golang
	}
	f.goLooked = true
	if f.Readable() && f.object.HasGoSection() {
		if g, ok := symbol.GoRuntimeOf(f.object); ok {
			f.golang = &g
		}
	}
	return f.golang
}

// Python implements resolve.Module.
func (f *file) Python() *python.Interpreter {
	if f.pyLooked {
		return f.cpython
	}
	f.pyLooked = true
	if f.Readable() {
		f.cpython = python.Find(f.object)
	}
	return f.cpython
}

// Table implements resolve.Module.
func (f *file) Table() *unwind.Table {
	if !f.tabled {
		f.tabled = true
		if f.Readable() {
			f.table, f.tableFault = f.compile()
		}
	}
	return f.table
}

// Instructions implements resolve.Module.
func (f *file) Instructions() *instructions.Code {
	// Sweeping much code takes a while: a stray sample, as there may be one where a process
	// begins, is not worth that.
	const large, stray = 2 << 20, 3
	if f.asked++; !f.Readable() || f.object.Size() > large && f.asked <= stray {
		return nil
	}
	return f.object.Instructions()
}

// compile makes the table, or reads the one that an earlier take has kept.
func (f *file) compile() (*unwind.Table, error) {
	var cache *cache.Cache
	if f.object.BuildID != "" {
		cache = f.world.Cache()
	}
	key := fmt.Sprintf("table-%d-%s-%d", unwind.KeepVersion, f.object.BuildID, f.object.Size())
	if cache != nil {
		if b, ok := cache.Get(key); ok {
			if t, ok := unwind.Kept(b); ok {
				return t, nil
			}
		}
	}
	t, err := unwind.CompileObject(f.object)
	if t == nil || err != nil {
		return t, err
	}
	if t.Fault == nil && cache != nil {
		cache.Keep(key, t.Keep())
	}
	return t, t.Fault
}

// fault is why something of it could not be read, "" where all was.
func (f *file) fault() string {
	switch {
	case f.kind == profile.KindJIT && f.object == nil:
		return "" // code made at run time is in no file, though its memory may have a name
	case f.failed != nil && f.tried:
		return strings.TrimSpace(f.failed.Error())
	case f.object != nil && f.object.Fault != nil:
		return strings.TrimSpace(f.object.Fault.Error())
	case f.tableFault != nil:
		return f.name + ": " + f.tableFault.Error()
	}
	return ""
}

func (f *file) close() error {
	if f.object != nil {
		return f.object.Close()
	}
	if f.mapped != nil {
		return f.mapped.Close()
	}
	return nil
}

// openVDSO reads the object that the kernel maps into every process, from our
// own memory: all processes of a machine share it.
func openVDSO(kind profile.ModuleKind) (*symbol.Object, error) {
	b, err := os.ReadFile("/proc/self/maps")
	if err != nil {
		return nil, fmt.Errorf("finding the vdso: %w", err)
	}
	for line := range strings.Lines(string(b)) {
		var start, end uintptr
		if strings.HasSuffix(line, "[vdso]\n") {
			if _, err := fmt.Sscanf(line, "%x-%x", &start, &end); err != nil {
				return nil, fmt.Errorf("finding the vdso: %w", err)
			}
			image := bytes.Clone(unsafe.Slice((*byte)(*(*unsafe.Pointer)(unsafe.Pointer(&start))), end-start))
			return symbol.NewObject(image, "[vdso]", kind)
		}
	}
	return nil, errors.New("this process has no vdso")
}
