package sampler

import (
	"encoding/binary"
	"fmt"
	"path"
	"strings"

	"entelon/linux/bpf"

	"entelon/linux/perf"

	"entelon/runtimes/python"
	"entelon/symbol"
)

// The names of the runtimes that are recognised.
const (
	runtimePython = "CPython"
	runtimeNode   = "Node.js"
	runtimeJava   = "Java"
)

// cpython is what a module tells that holds the CPython interpreter.
type cpython struct {
	layout python.Layout
	first  uint64 // of the pointer to the first interpreter state, in the module's own address space
	start  uint64 // lowest address of its code
	err    error  // why its frames cannot be read
}

// readCPython looks for the interpreter in an object; it returns nil where
// it is not there.
func readCPython(o *symbol.Object) *cpython {
	const runtimeSection = ".PyRuntime" // since 3.13, also in stripped files
	runtime, named := o.Variable("_PyRuntime")
	if !named {
		if runtime, named = o.Section(runtimeSection); !named {
			return lostCPython(o)
		}
	}
	c := &cpython{}
	head := o.Bytes(runtime, python.OffsetsSize)
	var v python.Version
	if at, ok := o.Variable("Py_Version"); ok {
		if b := o.Bytes(at, 8); b != nil {
			v = python.Version(binary.LittleEndian.Uint64(b))
		}
	} else if p := python.Published(head); p != 0 {
		v = p
	}
	if c.layout, c.err = python.LayoutOf(v, head); v == 0 {
		c.err = fmt.Errorf("%s is a version before 3.11", o.Path)
	}
	c.first = runtime + c.layout.Interpreters
	c.start, _ = o.CodeStart()
	return c
}

// lostCPython recognises by its file's name an interpreter without symbols.
func lostCPython(o *symbol.Object) *cpython {
	name := path.Base(o.Path)
	_, hasMain := o.Variable("Py_Main")
	switch {
	case hasMain:
		return &cpython{err: fmt.Errorf("%s is a version before 3.11", o.Path)}
	case isPython(name) && !o.Mentions("_PyRuntime") && !o.Mentions("Py_BytesMain") && !o.Mentions("Py_Main"):
		return &cpython{err: fmt.Errorf("%s: its symbols were stripped, so that its state is not found", o.Path)}
	}
	return nil
}

// isPython reports whether a file's name is that of the interpreter.
func isPython(name string) bool {
	for _, form := range []string{"python", "python3", "python[23].[0-9]*", "libpython[23].*.so*"} {
		if ok, err := path.Match(form, name); ok && err == nil {
			return true
		}
	}
	return false
}

// interpreter returns what the module tells of CPython, nil where it is none.
func (m *module) interpreter() *cpython {
	if m.pyLooked {
		return m.cpython
	}
	m.pyLooked = true
	if m.open(); m.object != nil {
		m.cpython = readCPython(m.object)
	}
	return m.cpython
}

// lookPython tells the kernel's programs of a process that has mapped CPython.
func (ps *processes) lookPython(p *process, m mapping) error {
	c := m.module.interpreter()
	if c == nil {
		return nil
	}
	ps.met[runtimePython] = true
	if c.err != nil && ps.unread == nil {
		ps.unread = c.err
	}
	if c.err != nil || p.python != nil || ps.python == nil {
		return nil
	}
	p.python = &c.layout
	return ps.tellPython(p.pid, m)
}

// tellPython tells the kernel's programs where a process has mapped CPython.
func (ps *processes) tellPython(pid uint32, m mapping) error {
	at, c := m.start, m.module.cpython
	if own, ok := m.module.object.Address(m.offset); ok {
		at -= own
	}
	return ps.python.Tell(pid, &c.layout, at+c.first, false)
}

// glance looks at a mapping before its turn in the order of time, since the
// kernel's program should know of an interpreter before it begins.
func (ps *processes) glance(r perf.Record) error {
	m, ok := perf.DecodeMmap2(r.Body)
	if !ok || ps.python == nil {
		return nil
	}
	name := strings.TrimSuffix(m.Name, " (deleted)")
	mod := ps.modules.get(m.PID, name, moduleKey{name, m.Inode, m.Major, m.Minor}, m.Address, m.Address+m.Length)
	if c := mod.interpreter(); c == nil || c.err != nil {
		return nil
	}
	return ps.tellPython(m.PID, mapping{m.Address, m.Address + m.Length, m.FileOffset, mod})
}

// leavePython forgets that a process ran CPython until a time. Code objects of
// what it has become since may be known already: their records are taken as
// they come, and not in their turn.
func (p *process) leavePython(at uint64) {
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
func (s *pythonStack) add(b []byte, l *python.Layout) {
	if l == nil {
		return // the process has become another program since
	}
	b = b[bpf.BeforeOther:]
	word := func(at int) uint64 { return binary.NativeEndian.Uint64(b[at:]) }
	n := word(bpf.OtherLength)
	if n > uint64(len(b)-bpf.OtherHeader) {
		return
	}
	first := len(s.entries)
	s.entries = python.Decode(b[bpf.OtherHeader:bpf.OtherHeader+n], l, s.entries)
	state, more := word(bpf.OtherAddr), word(bpf.OtherLow) != 0
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
