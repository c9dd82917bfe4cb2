// Package programs reads what package resolve asks of the programs that run on this
// machine: what they have mapped, the files of it, the names of code that they make,
// their memory, the kernel's own names.
//
// A World belongs to the goroutine of its resolver. What asks a Java machine for its map
// runs beside it, behind a lock of its own, and so does what fetches a debug file.
package programs

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"entelon/core/profile"
	"entelon/linux/procfs"
	"entelon/resolve"
	"entelon/resolve/raw"
	"entelon/symbol"
	"entelon/symbol/cache"
	"entelon/symbol/kernelsymbols"
)

// World is the programs of this machine.
type World struct {
	Began     time.Time // when the take did
	Command   uint32    // the launched process, 0 where one was attached to
	AskedMaps bool      // it was started so that it writes a map of its code
	KernelErr error     // why the kernel's names cannot be read

	finder *symbol.Finder // for separate debug files; nil: none are used
	kernel *kernelsymbols.List
	main   string // path of the program's executable, once known
	own    string // folder whose objects are the program's own
	files  []*file
	made   []*madeCode
	left   error  // what went wrong with what was let go of, the first
	round  uint64 // in which files that grow are looked at once
}

// New returns the programs of this machine. finder looks for separate debug files; nil:
// none are used.
func New(finder *symbol.Finder) *World { return &World{finder: finder, round: 1} }

// OpenKernel reads the kernel's symbols. That takes about 70 ms of processor
// time, most of it in the kernel, or 10 where they were kept, so it is done before the
// program begins, and may be done beside what else is prepared.
func (w *World) OpenKernel() { w.kernel, w.KernelErr = kernelsymbols.Open(w.Cache()) }

// WithoutKernel forgets them where its part of the stacks may not be seen.
func (w *World) WithoutKernel() error {
	err := w.kernel.Close()
	w.kernel, w.KernelErr = nil, nil
	return err
}

// Cache returns the symbol cache, nil where there is none.
func (w *World) Cache() *cache.Cache {
	if w.finder == nil {
		return nil
	}
	return w.finder.Cache
}

// SetMain says which executable the program is, and which script it runs.
func (w *World) SetMain(path, script string) {
	w.main, w.own = path, OwnDir(path)
	if script != "" {
		w.own = OwnDir(script)
	}
}

// OwnDir is the folder of the program's executable; objects below it are the
// program's own.
func OwnDir(executable string) string {
	dir := filepath.Dir(executable)
	if dir == "/" || dir == "." || strings.HasPrefix(dir, "/usr/") || dir == "/bin" || dir == "/sbin" {
		return ""
	}
	return dir + "/"
}

// NextRound allows files that grow to be looked at again.
func (w *World) NextRound() { w.round++ }

// ThreadName implements resolve.World.
func (w *World) ThreadName(pid, tid uint32) string { return procfs.ThreadName(pid, tid) }

// Mappings implements resolve.World.
func (w *World) Mappings(pid uint32) []raw.Mapping {
	f, err := os.Open(fmt.Sprintf("/proc/%d/maps", pid))
	if err != nil {
		return nil // it has ended
	}
	defer f.Close()
	return readMaps(f)
}

// readMaps reads lines of "start-end perms offset dev inode path".
func readMaps(r io.Reader) (out []raw.Mapping) {
	sc := bufio.NewScanner(r)
	for sc.Scan() {
		f := strings.Fields(sc.Text())
		if len(f) < 5 || !strings.Contains(f[1], "x") {
			continue
		}
		from, to, _ := strings.Cut(f[0], "-")
		start, err1 := strconv.ParseUint(from, 16, 64)
		end, err2 := strconv.ParseUint(to, 16, 64)
		offset, err3 := strconv.ParseUint(f[2], 16, 64)
		inode, err4 := strconv.ParseUint(f[4], 10, 64)
		if err1 != nil || err2 != nil || err3 != nil || err4 != nil {
			continue
		}
		name := "//anon"
		if len(f) > 5 {
			name = ModuleName(strings.Join(f[5:], " "))
		}
		m := raw.Mapping{Start: start, End: end, Offset: offset, Inode: inode, Name: name}
		if _, err := fmt.Sscanf(f[3], "%x:%x", &m.Major, &m.Minor); err != nil {
			continue
		}
		out = append(out, m)
	}
	return out
}

// ModuleName is a mapping's name without what the kernel says of a file that is gone.
func ModuleName(name string) string { return strings.TrimSuffix(name, " (deleted)") }

// Module implements resolve.World.
func (w *World) Module(pid uint32, m *raw.Mapping) resolve.Module {
	f := openFile(w, pid, m)
	w.files = append(w.files, f)
	return f
}

// Leave implements resolve.World.
func (w *World) Leave(m resolve.Module) {
	f, ok := m.(*file)
	if !ok {
		return
	}
	w.note(f.close())
	w.files = slices.DeleteFunc(w.files, func(x *file) bool { return x == f })
}

func (w *World) note(err error) {
	if w.left == nil {
		w.left = err
	}
}

// Kernel implements resolve.World.
func (w *World) Kernel(address uint64) (symbol.Location, string) { return w.kernel.Locate(address) }

// Memory implements resolve.World.
func (w *World) Memory(pid uint32, address uint64, n int) []byte {
	b := make([]byte, n)
	local := []unix.Iovec{{Base: &b[0], Len: uint64(n)}}
	got, err := unix.ProcessVMReadv(int(pid), local, []unix.RemoteIovec{{Base: uintptr(address), Len: n}}, 0)
	if err != nil || got <= 0 {
		return nil // it has ended, or nothing is there any more
	}
	return bytes.Clone(b[:got])
}

// MadeCode implements resolve.World.
func (w *World) MadeCode(pid uint32, asks bool) resolve.MadeCode {
	m := newMadeCode(w, pid, asks)
	w.made = append(w.made, m)
	return m
}

// Unreadable lists the files that could not be read, each with the reason.
func (w *World) Unreadable() []string {
	var out []string
	for _, f := range w.files {
		if text := f.fault(); text != "" {
			out = append(out, text)
		}
	}
	sort.Strings(out)
	return out
}

// ExportsOnly lists the files of which only exported functions have names.
func (w *World) ExportsOnly() (names []string) {
	for _, f := range w.files {
		if f.object != nil && f.kind != profile.KindRuntime && f.object.ExportsOnly() {
			names = append(names, f.name)
		}
	}
	return names
}

// Close lets go of all files.
func (w *World) Close() error {
	errs := []error{w.left}
	for _, f := range w.files {
		errs = append(errs, f.close())
	}
	errs = append(errs, w.kernel.Close())
	for _, m := range slices.Clone(w.made) {
		errs = append(errs, m.close())
	}
	return errors.Join(errs...)
}
