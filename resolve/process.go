package resolve

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"entelon/core/profile"
	"entelon/linux/perf"
	"entelon/linux/procfs"
	"entelon/runtimes"
	"entelon/runtimes/java"
	"entelon/runtimes/node"
	"entelon/runtimes/python"
	"entelon/symbol"
	"entelon/unwind"
)

// mapping is one executable range of a process's address space.
type mapping struct {
	start, end uint64
	offset     uint64 // in the file
	Module     *module
}

// Process is what is known of one process at the time of the records that
// have been read so far.
type Process struct {
	ID     profile.ProcessID
	PID    uint32
	maps   []mapping // by start, without overlap
	frames map[unwind.Step][]profile.FrameID
	rules  unwind.Cache
	python *python.Layout // nil where it does not run CPython
	codes  *pythonCodesRead
	Made   *jitCode // nil where no sample has hit code made at run time
}

// Table implements unwind.Code.
func (p *Process) Table(addr uint64) (t *unwind.Table, bias uint64, mapped bool) {
	m := p.Find(addr)
	if m == nil {
		return nil, 0, false
	}
	t = m.Module.unwindTable()
	if t == nil {
		return nil, 0, true
	}
	offset := addr - m.start + m.offset
	own, ok := m.Module.Object.Address(offset)
	if !ok {
		own = offset
	}
	return t, addr - own, true
}

// forget drops what depends on the mappings.
func (p *Process) forget() {
	clear(p.frames)
	p.rules.Reset()
}

// mapRange puts a mapping in, cutting away what it covers.
func (p *Process) mapRange(m mapping) {
	kept := p.maps[:0:0]
	for _, old := range p.maps {
		if old.end <= m.start || old.start >= m.end {
			kept = append(kept, old)
			continue
		}
		if old.start < m.start {
			left := old
			left.end = m.start
			kept = append(kept, left)
		}
		if old.end > m.end {
			right := old
			right.offset += m.end - old.start
			right.start = m.end
			kept = append(kept, right)
		}
	}
	kept = append(kept, m)
	sort.Slice(kept, func(i, j int) bool { return kept[i].start < kept[j].start })
	p.maps = kept
	p.forget()
}

// Find returns the mapping that holds an address, nil if none does.
func (p *Process) Find(addr uint64) *mapping {
	i := sort.Search(len(p.maps), func(i int) bool { return p.maps[i].end > addr })
	if i == len(p.maps) || addr < p.maps[i].start {
		return nil
	}
	return &p.maps[i]
}

// Processes follows all sampled processes and their threads.
type Processes struct {
	b       *profile.Builder
	modules *modules
	Known   map[uint32]*Process
	threads map[uint32]string                          // names by thread number, as long as they live
	Tell    func(pid uint32, g symbol.GoRuntime) error // of a process of the Go runtime; may be nil
	TellErr error
	// TellPython has the kernel's programs read a process's frames of CPython; first is
	// the address of the pointer to its first interpreter, or where relative is set its
	// distance from where the process's code begins. Nil where they are not read.
	TellPython func(pid uint32, l *python.Layout, first uint64, relative bool) error
	Met        map[string]bool   // runtimes that were met, by name
	Unread     error             // why frames of CPython cannot be read, the first reason
	Started    int64             // threads and processes that began while they were followed
	Born       map[uint32]uint64 // when they did, by thread, of those that are alive
}

func newProcesses(b *profile.Builder, m *modules) *Processes {
	return &Processes{b: b, modules: m, Known: map[uint32]*Process{}, threads: map[uint32]string{}, Born: map[uint32]uint64{}, Met: map[string]bool{}}
}

// Get returns a process; one that no record announced is read from the system.
func (ps *Processes) Get(pid uint32) *Process {
	if p := ps.Known[pid]; p != nil {
		return p
	}
	p := ps.fresh(pid)
	ps.readSystem(p)
	return p
}

func (ps *Processes) fresh(pid uint32) *Process {
	p := &Process{ID: ps.b.Process(pid), PID: pid, frames: map[unwind.Step][]profile.FrameID{}}
	ps.Known[pid] = p
	return p
}

// Thread returns the profile's thread and sees to its name.
func (ps *Processes) Thread(p *Process, tid uint32) profile.ThreadID {
	before := len(ps.b.Profile().Threads)
	id := ps.b.Thread(p.ID, tid)
	if int(id) == before {
		ps.b.NameThread(id, ps.ThreadName(p.PID, tid))
	}
	return id
}

// ThreadName is what a thread is named now.
func (ps *Processes) ThreadName(pid, tid uint32) string {
	name, ok := ps.threads[tid]
	if !ok {
		name = procfs.ThreadName(pid, tid)
		ps.threads[tid] = name
	}
	return name
}

// readSystem takes names and mappings of a running process from /proc.
func (ps *Processes) readSystem(p *Process) {
	if name := procfs.ThreadName(p.PID, p.PID); name != "" {
		ps.b.NameProcess(p.ID, name)
	}
	f, err := os.Open(fmt.Sprintf("/proc/%d/maps", p.PID))
	if err != nil {
		return // ended already: its addresses stay without a module, and the take says so
	}
	defer f.Close()
	ps.readMaps(p, f)
}

// readMaps reads lines of "start-end perms offset dev inode path".
func (ps *Processes) readMaps(p *Process, r io.Reader) {
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
			name = strings.TrimSuffix(strings.Join(f[5:], " "), " (deleted)")
		}
		var maj, min uint32
		if _, err := fmt.Sscanf(f[3], "%x:%x", &maj, &min); err != nil {
			continue
		}
		mod := ps.modules.get(p.PID, name, moduleKey{name, inode, maj, min}, start, end)
		m := mapping{start, end, offset, mod}
		p.mapRange(m)
		ps.look(p, m)
	}
}

// Apply updates the processes by a record that is not a sample.
func (ps *Processes) Apply(r perf.Record) {
	ne := binary.NativeEndian
	switch r.Kind {
	case perf.RecordMmap2:
		m, ok := perf.DecodeMmap2(r.Body)
		if !ok {
			return
		}
		name := strings.TrimSuffix(m.Name, " (deleted)")
		p := ps.Get(m.PID)
		mod := ps.modules.get(m.PID, name, moduleKey{name, m.Inode, m.Major, m.Minor}, m.Address, m.Address+m.Length)
		x := mapping{m.Address, m.Address + m.Length, m.FileOffset, mod}
		p.mapRange(x)
		ps.look(p, x)
	case perf.RecordComm:
		if len(r.Body) < 9 {
			return
		}
		pid, tid := ne.Uint32(r.Body), ne.Uint32(r.Body[4:])
		ps.comm(pid, tid, unix.ByteSliceToString(r.Body[8:]), r.Misc&perf.MiscCommExec != 0, r.Time)
	case perf.RecordFork:
		if len(r.Body) < 16 {
			return
		}
		pid, ppid, tid, ptid := ne.Uint32(r.Body), ne.Uint32(r.Body[4:]), ne.Uint32(r.Body[8:]), ne.Uint32(r.Body[12:])
		ps.Born[tid] = r.Time
		ps.fork(pid, ppid, tid, ptid)
	case perf.RecordExit:
		if len(r.Body) < 16 {
			return
		}
		delete(ps.threads, ne.Uint32(r.Body[8:]))
		delete(ps.Born, ne.Uint32(r.Body[8:]))
	}
}

func (ps *Processes) comm(pid, tid uint32, name string, exec bool, at uint64) {
	p := ps.Known[pid]
	if p == nil {
		p = ps.fresh(pid)
	}
	if exec {
		p.maps = nil
		p.forget()
		p.leavePython(at)
		p.leaveMade()
	}
	if pid == tid {
		ps.b.NameProcess(p.ID, name)
	}
	ps.threads[tid] = name
	if id, sampled := ps.b.FindThread(p.ID, tid); sampled {
		ps.b.NameThread(id, name)
	}
}

func (ps *Processes) fork(pid, ppid, tid, ptid uint32) {
	ps.Started++
	if name, ok := ps.threads[ptid]; ok {
		ps.threads[tid] = name
	}
	if pid == ppid {
		return // a thread
	}
	parent := ps.Known[ppid]
	if parent == nil {
		return
	}
	p := ps.fresh(pid)
	p.maps = append([]mapping(nil), parent.maps...)
	for _, m := range p.maps {
		ps.look(p, m)
	}
	ps.b.NameProcess(p.ID, ps.b.Profile().Strings[ps.b.Profile().Processes[parent.ID].Name])
}

// look tells of a process that has mapped a module of the Go runtime or CPython.
func (ps *Processes) look(p *Process, m mapping) {
	if ps.Tell != nil {
		if g := m.Module.goRuntime(); g != nil {
			if err := ps.Tell(p.PID, *g); err != nil {
				ps.TellErr = err
			}
		}
	}
	if err := ps.lookPython(p, m); err != nil {
		ps.TellErr = err
	}
	base := filepath.Base(m.Module.Name)
	switch r := runtimes.Holding(base).(type) {
	case java.Runtime:
		if base != java.Machine { // its starter alone runs nothing
			return
		}
		ps.Met[r.Name()] = true
		if j := p.jit(); j.java == nil {
			j.java = askJava(p.PID)
		}
	case node.Runtime:
		ps.Met[r.Name()] = true
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
