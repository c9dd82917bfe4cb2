package resolve

import (
	"strings"

	"entelon/linux/bpf"
	"entelon/linux/perf"
	"entelon/runtimes/python"
)

// interpreter returns what the module tells of CPython, nil where it is none.
func (m *module) interpreter() *python.Interpreter {
	if m.pyLooked {
		return m.cpython
	}
	m.pyLooked = true
	if m.open(); m.Object != nil {
		m.cpython = python.Find(m.Object)
	}
	return m.cpython
}

// lookPython tells the kernel's programs of a process that has mapped CPython.
func (ps *Processes) lookPython(p *Process, m mapping) error {
	c := m.Module.interpreter()
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
	return ps.tellPython(p.PID, m)
}

// tellPython tells the kernel's programs where a process has mapped CPython.
func (ps *Processes) tellPython(pid uint32, m mapping) error {
	at, c := m.start, m.Module.cpython
	if own, ok := m.Module.Object.Address(m.offset); ok {
		at -= own
	}
	return ps.TellPython(pid, &c.Layout, at+c.First, false)
}

// Glance looks at a mapping before its turn in the order of time, since the
// kernel's program should know of an interpreter before it begins.
func (ps *Processes) Glance(r perf.Record) error {
	m, ok := perf.DecodeMmap2(r.Body)
	if !ok || ps.TellPython == nil {
		return nil
	}
	name := strings.TrimSuffix(m.Name, " (deleted)")
	mod := ps.modules.get(m.PID, name, moduleKey{name, m.Inode, m.Major, m.Minor}, m.Address, m.Address+m.Length)
	if c := mod.interpreter(); c == nil || c.Err != nil {
		return nil
	}
	return ps.tellPython(m.PID, mapping{m.Address, m.Address + m.Length, m.FileOffset, mod})
}

// leavePython forgets that a process ran CPython until a time. Code objects of
// what it has become since may be known already: their records are taken as
// they come, and not in their turn.
func (p *Process) leavePython(at uint64) {
	p.python = nil
	if p.codes == nil {
		return
	}
	raw := p.codes.raw
	p.codes = nil
	for id, r := range raw {
		if r.at >= at {
			p.pythonCodes().raw[id] = r
		}
	}
}

// pythonStack collects what one sample has of CPython's frames.
type pythonStack struct {
	entries []python.Entry
	states  []pythonState
	runs    []python.Run
}

// pythonState are the entries of one thread state.
type pythonState struct {
	address     uint64
	first, last int
	more        bool // the chain goes on beyond them
}

func (s *pythonStack) reset() {
	s.entries, s.states, s.runs = s.entries[:0], s.states[:0], s.runs[:0]
}

// add takes one record of frames.
func (s *pythonStack) add(h bpf.Header, entries []byte, l *python.Layout) {
	if l == nil {
		return // the process has become another program since
	}
	first := len(s.entries)
	s.entries = python.Decode(entries, l, s.entries)
	state, more := h.Addr, h.Low != 0
	if k := len(s.states); k > 0 && s.states[k-1].address == state && s.states[k-1].more {
		s.states[k-1].last, s.states[k-1].more = len(s.entries), more
		return
	}
	s.states = append(s.states, pythonState{state, first, len(s.entries), more})
}

// cut makes runs of what was collected, the innermost first; it returns false
// where the frames contradict each other, and keeps none of them.
func (s *pythonStack) cut(l *python.Layout) bool {
	for _, x := range s.states {
		var ok bool
		if s.runs, ok = python.Cut(s.entries[x.first:x.last], l, s.runs); !ok {
			s.runs = s.runs[:0]
			return false
		}
	}
	if len(s.states) > 1 {
		python.SortRuns(s.runs) // a thread that is in several interpreters has them all on one stack
	}
	return true
}
