package resolve

import (
	"encoding/binary"
	"fmt"
	"path"
	"slices"

	"entelon/core/profile"
	"entelon/resolve/raw"
	"entelon/runtimes/python"
)

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

// add takes frames that were read together.
func (s *pythonStack) add(f *raw.Frames, l *python.Layout) {
	if l == nil {
		return // the process has become another program since
	}
	first := len(s.entries)
	s.entries = python.Decode(f.Entries, l, s.entries)
	if k := len(s.states); k > 0 && s.states[k-1].address == f.State && s.states[k-1].more {
		s.states[k-1].last, s.states[k-1].more = len(s.entries), f.More
		return
	}
	s.states = append(s.states, pythonState{f.State, first, len(s.entries), f.More})
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

// pythonCodesRead are the code objects of a process, and the frames in them.
type pythonCodesRead struct {
	raw    map[python.Identity]codeRecord // that were not looked at yet
	known  map[python.Identity]*python.Code
	frames map[pythonPlace]profile.FrameID
}

// codeRecord is what was read of a code object, and when.
type codeRecord struct {
	at    uint64
	line  uint32 // its first
	bytes []byte // as raw.Code has them
}

type pythonPlace struct {
	code  python.Identity
	instr uint64
}

func (p *Process) pythonCodes() *pythonCodesRead {
	if p.codes == nil {
		p.codes = &pythonCodesRead{raw: map[python.Identity]codeRecord{}, known: map[python.Identity]*python.Code{}, frames: map[pythonPlace]profile.FrameID{}}
	}
	return p.codes
}

// learn keeps what was read of a code object.
func (p *Process) learn(c *raw.Code, at uint64) {
	id := python.Identity{Address: c.Address, Filename: c.Filename, Qualname: c.Qualname, LineTable: c.LineTable}
	p.pythonCodes().raw[id] = codeRecord{at, c.FirstLine, slices.Clone(c.Bytes)}
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

// code returns a code object, nil where it cannot be read any more.
func (n *names) code(p *Process, id python.Identity) *python.Code {
	codes := p.pythonCodes()
	c, ok := codes.known[id]
	if ok {
		return c
	}
	if r, ok := codes.raw[id]; ok {
		delete(codes.raw, id)
		if len(r.bytes) >= python.NameBytes+python.FileBytes {
			file := r.bytes[python.NameBytes:]
			c = python.CodeFrom(p.python, id, r.line, r.bytes[:python.NameBytes], file[:python.FileBytes], file[python.FileBytes:])
		}
	} else {
		c = n.readCode(p, id)
	}
	codes.known[id] = c
	return c
}

// readCode reads a code object now, where its record is not there: the kernel
// forgets which ones it has told of where there are very many.
func (n *names) readCode(p *Process, id python.Identity) *python.Code {
	l := p.python
	if l == nil {
		return nil
	}
	read := func(at uint64, most int) []byte { return n.world.Memory(p.PID, at, most) }
	head := read(id.Address+l.Code.Filename, 32)
	line := read(id.Address+l.Code.FirstLine, 4)
	if len(head) < 32 || len(line) < 4 {
		return nil
	}
	ne := binary.NativeEndian
	if now := (python.Identity{Address: id.Address, Filename: ne.Uint64(head), Qualname: ne.Uint64(head[16:]), LineTable: ne.Uint64(head[24:])}); now != id {
		return nil // another one has its place
	}
	return python.CodeFrom(l, id, ne.Uint32(line), read(id.Qualname, python.NameBytes), read(id.Filename, python.FileBytes), read(id.LineTable, python.TableBytes))
}

// python returns the frame of one entry.
func (n *names) python(p *Process, e *python.Entry) profile.FrameID {
	codes := p.pythonCodes()
	key := pythonPlace{e.Code, e.Instr}
	if f, ok := codes.frames[key]; ok {
		return f
	}
	fn := profile.Function{Kind: profile.KindUnknown}
	var line uint32
	c := n.code(p, e.Code)
	if c == nil {
		fn.Name = n.b.Intern(fmt.Sprintf("[python function at 0x%x]", e.Code.Address))
		fn.Module = n.b.Module(profile.Module{Path: n.b.Intern("[python]"), Kind: profile.KindInterpreter})
	} else {
		line = c.Line(e, p.python)
		name := c.Name
		if name == "<module>" {
			name += " " + path.Base(c.File) // every file has one
		}
		fn.Name, fn.File, fn.Line = n.b.Intern(name), n.b.Intern(c.File), c.First
		fn.Kind = python.KindOf(c.File)
		fn.Module = n.b.Module(profile.Module{Path: n.b.Intern(c.File), Kind: profile.KindInterpreter})
	}
	f := n.b.Frame(profile.Frame{Function: n.b.Function(fn), Line: line, Found: profile.FoundInterpreter})
	if c == nil {
		n.none[f] = "[python]"
	}
	codes.frames[key] = f
	return f
}
