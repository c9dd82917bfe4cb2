package resolve

import (
	"encoding/binary"
	"fmt"
	"path"
	"slices"

	"golang.org/x/sys/unix"

	"entelon/core/profile"
	"entelon/linux/bpf"
	"entelon/linux/perf"
	"entelon/runtimes/python"
	"entelon/unwind"
)

// layOut visits the frames of the stack that was just walked, the innermost
// first: those of machine code as steps, and where a step is the interpreter's
// own evaluation of Python code, the frames of that code instead.
func (r *Resolver) layOut(p *Process, native func(unwind.Step), frame func(profile.FrameID)) {
	runs := r.python.runs
	if len(runs) > 0 {
		r.facts.Interpreted++
	}
	for i, s := range r.Steps {
		upper := ^uint64(0)
		if i+1 < len(r.walk.Depths) {
			upper = r.walk.Depths[i+1]
		}
		replaced := false
		for len(runs) > 0 && i < len(r.walk.Depths) && runs[0].At < upper {
			replaced = runs[0].At >= r.walk.Depths[i]
			r.visitRun(p, &runs[0], frame)
			runs = runs[1:]
		}
		if !replaced {
			native(s)
		}
	}
	for ; len(runs) > 0; runs = runs[1:] {
		r.visitRun(p, &runs[0], frame) // where the machine's stack was cut off before
	}
}

func (r *Resolver) visitRun(p *Process, run *python.Run, frame func(profile.FrameID)) {
	for i := range run.Frames {
		frame(r.pythonFrame(p, &run.Frames[i]))
	}
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
	bytes []byte // bpf.PythonCode, the table as long as it is
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

// LearnCode keeps the record of a code object.
func (r *Resolver) LearnCode(rec perf.Record) {
	p := r.Processes.Get(rec.PID)
	h, body, ok := bpf.Decode(rec.Body)
	if !ok {
		return
	}
	p.pythonCodes().raw[python.Identity{Address: h.Addr, Filename: h.Low, Qualname: h.High, LineTable: h.Sp}] = codeRecord{rec.Time, uint32(h.Pc), slices.Clone(body)}
}

// code returns a code object, nil where it cannot be read any more.
func (p *Process) code(id python.Identity) *python.Code {
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
		c = p.readCode(id)
	}
	codes.known[id] = c
	return c
}

// readCode reads a code object now, where its record is not there: the kernel
// forgets which ones it has told of where there are very many.
func (p *Process) readCode(id python.Identity) *python.Code {
	read := func(at uint64, n int) []byte {
		b := make([]byte, n)
		local := []unix.Iovec{{Base: &b[0], Len: uint64(n)}}
		got, err := unix.ProcessVMReadv(int(p.PID), local, []unix.RemoteIovec{{Base: uintptr(at), Len: n}}, 0)
		if err != nil || got <= 0 {
			return nil // it has ended, or the object is gone
		}
		return b[:got]
	}
	l := p.python
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

// pythonFrame returns the frame of one entry.
func (r *Resolver) pythonFrame(p *Process, e *python.Entry) profile.FrameID {
	codes := p.pythonCodes()
	key := pythonPlace{e.Code, e.Instr}
	if f, ok := codes.frames[key]; ok {
		return f
	}
	fn := profile.Function{Kind: profile.KindUnknown}
	var line uint32
	c := p.code(e.Code)
	if c == nil {
		fn.Name = r.Builder.Intern(fmt.Sprintf("[python function at 0x%x]", e.Code.Address))
		fn.Module = r.Builder.Module(profile.Module{Path: r.Builder.Intern("[python]"), Kind: profile.KindInterpreter})
	} else {
		line = c.Line(e, p.python)
		name := c.Name
		if name == "<module>" {
			name += " " + path.Base(c.File) // every file has one
		}
		fn.Name, fn.File, fn.Line = r.Builder.Intern(name), r.Builder.Intern(c.File), c.First
		fn.Kind = python.KindOf(c.File)
		fn.Module = r.Builder.Module(profile.Module{Path: r.Builder.Intern(c.File), Kind: profile.KindInterpreter})
	}
	f := r.Builder.Frame(profile.Frame{Function: r.Builder.Function(fn), Line: line, Found: profile.FoundInterpreter})
	if c == nil {
		r.noName[f] = "[python]"
	}
	codes.frames[key] = f
	return f
}
