package resolve

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
	"entelon/runtimes"
	"entelon/runtimes/python"
	"entelon/symbol"
	"entelon/unwind"
)

// module is a file, or another thing that holds code, shared by all processes
// that map it.
type module struct {
	Name       string
	file       *os.File // open from the moment the mapping was seen, until it is read
	Object     *symbol.Object
	failed     error // why the object could not be read
	tried      bool
	frames     map[unwind.Step][]profile.FrameID // by address in the object
	table      *unwind.Table
	tableFault error // why some of it is missing
	tabled     bool  // table was made, or there is none
	goes       *symbol.GoRuntime
	goLooked   bool
	cpython    *python.Interpreter
	pyLooked   bool
	finder     *symbol.Finder
	ready      chan struct{} // closed when the object's debug file is there or known not to be
	ID         profile.ModuleID
	IDSet      bool
	Kind       profile.ModuleKind
}

// moduleKey tells files apart that have one name, in one folder after the
// other or in several mount namespaces.
type moduleKey struct {
	name     string
	inode    uint64
	maj, min uint32 // the device
}

// modules knows every module of a collection.
type modules struct {
	Known  map[moduleKey]*module
	finder *symbol.Finder
	main   string // path of the program's executable, once known
	own    string // folder whose objects are the program's own
}

func newModules(f *symbol.Finder) *modules {
	return &modules{Known: map[moduleKey]*module{}, finder: f}
}

// Cache returns the symbol cache, nil where there is none.
func (ms *modules) Cache() *symbol.Cache {
	if ms.finder == nil {
		return nil
	}
	return ms.finder.Cache
}

// SetMain says which executable the program is.
func (ms *modules) SetMain(path, script string) {
	ms.main, ms.own = path, OwnDir(path)
	if script != "" {
		ms.own = OwnDir(script)
	}
}

// get returns the module that a process has mapped under a name. Its file is
// opened here and now, through the process's own view of the file system, so
// that it can still be read when the process or the file has gone.
func (ms *modules) get(pid uint32, name string, key moduleKey, start, end uint64) *module {
	if m := ms.Known[key]; m != nil {
		return m
	}
	m := &module{Name: name, Kind: ms.kind(name), frames: map[unwind.Step][]profile.FrameID{}, finder: ms.finder}
	ms.Known[key] = m
	if strings.HasPrefix(name, "/") && !strings.HasPrefix(name, "//") {
		m.file, m.failed = openMapped(pid, name, key.inode, start, end)
	}
	return m
}

// openMapped opens the very file that a process has mapped.
func openMapped(pid uint32, name string, inode, start, end uint64) (*os.File, error) {
	var last error
	for _, path := range []string{
		fmt.Sprintf("/proc/%d/root%s", pid, name),
		fmt.Sprintf("/proc/%d/map_files/%x-%x", pid, start, end),
		name,
	} {
		f, err := symbol.OpenRegular(path)
		if err != nil {
			last = err
			continue
		}
		var st unix.Stat_t
		if err := unix.Fstat(int(f.Fd()), &st); err == nil && (st.Ino == inode || inode == 0) && st.Mode&unix.S_IFMT == unix.S_IFREG {
			return f, nil
		}
		f.Close()
		last = errors.New("the file was replaced after the program had started")
	}
	return nil, fmt.Errorf("%s: %w", name, last)
}

func (ms *modules) kind(name string) profile.ModuleKind {
	switch {
	case runtimes.Holding(path.Base(name)) != nil:
		return profile.KindRuntime
	case name == ms.main || (ms.own != "" && strings.HasPrefix(name, ms.own)):
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

// open reads the outline of the module's object, once.
func (m *module) open() {
	if m.tried {
		return
	}
	m.tried = true
	switch {
	case m.Name == "[vdso]":
		m.Object, m.failed = openVDSO(m.Kind)
	case m.file != nil:
		m.Object, m.failed = symbol.OpenObject(m.file, m.Name, m.Kind, m.finder)
		m.file = nil
	}
	if m.Object == nil || m.finder == nil || len(m.finder.Servers) == 0 {
		return
	}
	// Fetching a debug file may take long, so it begins as soon as the module
	// is met, and samples wait for their names aside.
	m.ready = make(chan struct{})
	go func() {
		defer close(m.ready)
		m.Object.Prepare()
	}()
}

// fetching reports whether the module's names cannot be had yet.
func (m *module) fetching() bool {
	if m.ready == nil {
		return false
	}
	select {
	case <-m.ready:
		m.ready = nil
		return false
	default:
		return true
	}
}

// compile makes the table, or reads the one that an earlier take has kept.
func (m *module) compile() (*unwind.Table, error) {
	var cache *symbol.Cache
	if m.finder != nil && m.Object.BuildID != "" {
		cache = m.finder.Cache
	}
	key := fmt.Sprintf("table-%d-%s-%d", unwind.KeepVersion, m.Object.BuildID, m.Object.Size())
	if cache != nil {
		if b, ok := cache.Get(key); ok {
			if t, ok := unwind.Kept(b); ok {
				return t, nil
			}
		}
	}
	t, err := unwind.CompileObject(m.Object)
	if t == nil || err != nil {
		return t, err
	}
	if t.Fault == nil && cache != nil {
		cache.Keep(key, t.Keep())
	}
	return t, t.Fault
}

// goRuntime returns where the module keeps what belongs to a thread, nil where
// it is not of the Go runtime.
func (m *module) goRuntime() *symbol.GoRuntime {
	if m.goLooked {
		return m.goes
	}
	m.goLooked = true
	if m.open(); m.Object != nil && m.Object.HasGoSection() {
		if g, ok := m.Object.GoRuntime(); ok {
			m.goes = &g
		}
	}
	return m.goes
}

// unwindTable returns the module's table, nil where there is none.
func (m *module) unwindTable() *unwind.Table {
	if !m.tabled {
		m.tabled = true
		if m.open(); m.Object != nil {
			m.table, m.tableFault = m.compile()
		}
	}
	return m.table
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
