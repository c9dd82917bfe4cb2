package resolve

import (
	"path/filepath"

	"entelon/core/profile"
	"entelon/resolve/raw"
	"entelon/runtimes"
	"entelon/runtimes/java"
	"entelon/runtimes/node"
	"entelon/runtimes/python"
	"entelon/symbol"
	"entelon/unwind"
)

// Processes follows all sampled processes and their threads.
type Processes struct {
	b       *profile.Builder
	world   World
	modules modules
	Known   map[uint32]*Process
	threads map[uint32]thread                          // by number, as long as they live
	Tell    func(pid uint32, g symbol.GoRuntime) error // of a process of the Go runtime; may be nil
	TellErr error
	// TellPython has the kernel's programs read a process's frames of CPython; first is
	// the address of the pointer to its first interpreter, or where relative is set its
	// distance from where the process's code begins. Nil where they are not read.
	TellPython func(pid uint32, l *python.Layout, first uint64, relative bool) error
	Met        map[string]bool // runtimes that were met, by name
	Unread     error           // why frames of CPython cannot be read, the first reason
	Started    int64           // threads and processes that began while they were followed
}

// thread is what is known of one that is alive.
type thread struct {
	pid   uint32
	name  string
	named bool
	born  uint64 // when it began, 0: before it was followed
}

func newProcesses(b *profile.Builder, w World) *Processes {
	return &Processes{
		b: b, world: w, modules: modules{w, map[moduleKey]*module{}}, Known: map[uint32]*Process{},
		threads: map[uint32]thread{}, Met: map[string]bool{},
	}
}

// Get returns a process; one that no record announced is read from the system.
func (ps *Processes) Get(pid uint32) *Process {
	if p := ps.Known[pid]; p != nil {
		return p
	}
	p := ps.fresh(pid)
	if name := ps.world.ThreadName(pid, pid); name != "" {
		ps.name(p, name)
	}
	// Of one that has ended there are none: its addresses stay without a module, and
	// the take says so.
	for _, m := range ps.world.Mappings(pid) {
		ps.mapped(p, &m)
	}
	return p
}

func (ps *Processes) fresh(pid uint32) *Process {
	p := &Process{PID: pid, frames: map[unwind.Step][]profile.FrameID{}, madeFrames: map[madePlace]profile.FrameID{}}
	ps.Known[pid] = p
	ps.ID(p)
	return p
}

// ID is the process in the profile.
func (ps *Processes) ID(p *Process) profile.ProcessID {
	if !p.idSet {
		p.id, p.idSet = ps.b.Process(p.PID), true
		if p.name != "" {
			ps.b.NameProcess(p.id, p.name)
		}
	}
	return p.id
}

func (ps *Processes) name(p *Process, name string) {
	p.name = name
	if p.idSet {
		ps.b.NameProcess(p.id, name)
	}
}

// Name is what the process is named now.
func (p *Process) Name() string { return p.name }

// Thread returns the profile's thread and sees to its name.
func (ps *Processes) Thread(p *Process, tid uint32) profile.ThreadID {
	before := len(ps.b.Profile().Threads)
	id := ps.b.Thread(ps.ID(p), tid)
	if int(id) == before {
		ps.b.NameThread(id, ps.ThreadName(p.PID, tid))
	}
	return id
}

// Goroutine returns the profile's goroutine.
func (ps *Processes) Goroutine(p *Process, number uint64) profile.ThreadID {
	return ps.b.Goroutine(ps.ID(p), uint32(number))
}

// ThreadName is what a thread is named now.
func (ps *Processes) ThreadName(pid, tid uint32) string {
	t := ps.threads[tid]
	if !t.named {
		t.pid, t.name, t.named = pid, ps.world.ThreadName(pid, tid), true
		ps.threads[tid] = t
	}
	return t.name
}

// Alive reports whether a thread is there now.
func (ps *Processes) Alive(pid, tid uint32) bool { return ps.world.ThreadName(pid, tid) != "" }

// Born is when a thread began, 0 where it was there before.
func (ps *Processes) Born(tid uint32) uint64 { return ps.threads[tid].born }

// Apply updates the processes by a record that is not a sample.
func (ps *Processes) Apply(r *raw.Record) {
	switch r.Kind {
	case raw.Mapped:
		ps.mapped(ps.Get(r.PID), r.Mapping)
	case raw.Renamed:
		ps.renamed(r)
	case raw.Started:
		ps.started(r)
	case raw.Ended:
		delete(ps.threads, r.TID)
	}
}

func (ps *Processes) mapped(p *Process, m *raw.Mapping) {
	x := mapping{m.Start, m.End, m.Offset, ps.modules.get(p.PID, m)}
	p.mapRange(x)
	ps.look(p, x)
}

func (ps *Processes) renamed(r *raw.Record) {
	p := ps.Known[r.PID]
	if p == nil {
		p = ps.fresh(r.PID)
	}
	if r.Exec {
		p.maps = nil
		p.forget()
		p.leavePython(r.Time)
		p.leaveMade()
	}
	if r.PID == r.TID {
		ps.name(p, r.Name)
	}
	t := ps.threads[r.TID]
	t.pid, t.name, t.named = r.PID, r.Name, true
	ps.threads[r.TID] = t
	if !p.idSet {
		return
	}
	if id, sampled := ps.b.FindThread(p.id, r.TID); sampled {
		ps.b.NameThread(id, r.Name)
	}
}

func (ps *Processes) started(r *raw.Record) {
	ps.Started++
	t := ps.threads[r.Parent.TID]
	t.pid, t.born = r.PID, r.Time
	ps.threads[r.TID] = t
	if r.PID == r.Parent.PID {
		return // a thread
	}
	parent := ps.Known[r.Parent.PID]
	if parent == nil {
		return
	}
	p := ps.fresh(r.PID)
	p.maps = append([]mapping(nil), parent.maps...)
	for _, m := range p.maps {
		ps.look(p, m)
	}
	ps.name(p, parent.name)
}

// look tells of a process that has mapped a module of the Go runtime or CPython.
func (ps *Processes) look(p *Process, m mapping) {
	if ps.Tell != nil {
		if g := m.Module.Go(); g != nil {
			if err := ps.Tell(p.PID, *g); err != nil {
				ps.TellErr = err
			}
		}
	}
	if err := ps.lookPython(p, m); err != nil {
		ps.TellErr = err
	}
	base := filepath.Base(m.Module.Name())
	switch r := runtimes.Holding(base).(type) {
	case java.Runtime:
		if base != java.Machine { // its starter alone runs nothing
			return
		}
		ps.Met[r.Name()] = true
		if p.made == nil {
			p.made, p.java = ps.world.MadeCode(p.PID, true), true
		}
	case node.Runtime:
		ps.Met[r.Name()] = true
	}
}

// lookPython tells the kernel's programs of a process that has mapped CPython.
func (ps *Processes) lookPython(p *Process, m mapping) error {
	c := m.Module.Python()
	if c == nil {
		return nil
	}
	ps.Met[python.Name] = true
	if c.Err != nil && ps.Unread == nil {
		ps.Unread = c.Err
	}
	if c.Err != nil || p.python != nil || ps.TellPython == nil {
		return nil
	}
	p.python = &c.Layout
	return ps.tellPython(p.PID, m, c)
}

// tellPython tells the kernel's programs where a process has mapped CPython.
func (ps *Processes) tellPython(pid uint32, m mapping, c *python.Interpreter) error {
	at := m.start
	if own, ok := m.Module.Address(m.offset); ok {
		at -= own
	}
	return ps.TellPython(pid, &c.Layout, at+c.First, false)
}

// Glance looks at a mapping before its turn in the order of time, since the
// kernel's program should know of an interpreter before it begins.
func (ps *Processes) Glance(r *raw.Record) error {
	if ps.TellPython == nil {
		return nil
	}
	m := r.Mapping
	mod := ps.modules.get(r.PID, m)
	c := mod.Python()
	if c == nil || c.Err != nil {
		return nil
	}
	return ps.tellPython(r.PID, mapping{m.Start, m.End, m.Offset, mod}, c)
}
