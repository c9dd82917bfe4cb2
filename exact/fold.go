package exact

import (
	"fmt"
	"path"

	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/exact/counts"
	"entelon/symbol"
)

// Object names the addresses of a file. *symbol.Object is one, with what Open found of it.
type Object interface {
	Address(offset uint64) (addr uint64, ok bool)
	Locate(addr uint64) []symbol.Location
}

// Opened is a file whose addresses can be named.
type Opened struct {
	Object  Object // nil: it could not be read
	BuildID string
	Kind    profile.ModuleKind
}

// Profile is what was counted of processes, which are called by what they executed, as name has it
// of a path; open is asked for each file that they had mapped, once.
func Profile(name func(path string) string, processes []*counts.Counts, m Memory, open func(path string) Opened) *profile.Profile {
	b := profile.NewBuilder()
	for _, c := range Columns(m) {
		b.Column(c)
	}
	for _, c := range processes {
		fold(b, name(c.Program), c, m, open)
	}
	p := b.Profile()
	p.Samples.Time = nil // counts have none
	return p
}

// fold adds what was counted of a process to a profile, whose columns are those of Columns.
func fold(b *profile.Builder, name string, c *counts.Counts, o Memory, open func(path string) Opened) {
	f := folding{b: b, c: c, files: map[string]*file{}, frames: map[uint64][]profile.FrameID{}, entries: map[uint64]profile.FrameID{}, threads: map[uint32]profile.ThreadID{}, begins: map[uint64]bool{}, open: open}
	process := b.Process(c.PID)
	b.NameProcess(process, name)
	parts := make([][]part, len(c.Blocks))
	known := make([]bool, len(c.Blocks))
	stacks := make([]profile.StackID, len(c.Contexts)) // of what calls the context's function
	depth := make([]int, len(c.Contexts))
	thread := func(n uint32) profile.ThreadID {
		t, ok := f.threads[n]
		if !ok {
			t = b.Thread(process, c.PID+n-1)
			b.NameThread(t, fmt.Sprintf("%s %d", name, n))
			f.threads[n] = t
		}
		return t
	}
	called := make([]int64, len(Columns(o)))
	for i := range c.Contexts {
		x := &c.Contexts[i]
		if x.Parent >= 0 {
			stacks[i], depth[i] = stacks[x.Parent], depth[x.Parent]
			if depth[i] < maxDepth {
				depth[i]++
				for _, frame := range f.at(x.Site, c.Contexts[x.Parent].Function) {
					stacks[i] = b.Push(stacks[i], frame)
				}
			}
		}
		if x.Calls > 0 {
			called[1] = int64(x.Calls)
			b.Sample(0, thread(x.Thread), b.Push(stacks[i], f.entry(x.Function)), called...)
		}
	}
	for _, x := range c.Blocks {
		f.begins[x.Address] = true
	}
	// values are those of one row: the columns that all have, and the events that are wanted.
	values := make([]int64, len(Columns(o)))
	cells := c.Cells
	for at, p := range c.Pairs {
		if !known[p.Block] {
			parts[p.Block], known[p.Block] = f.parts(&c.Blocks[p.Block]), true
		}
		mine := 0
		for mine < len(cells) && int(cells[mine].Pair) == at {
			mine++
		}
		x := &c.Contexts[p.Context]
		row := func(frames []profile.FrameID) {
			stack := stacks[p.Context]
			for _, frame := range frames {
				stack = b.Push(stack, frame)
			}
			b.Sample(0, thread(x.Thread), stack, values...)
			clear(values)
		}
		for _, part := range parts[p.Block] {
			values[0], values[2] = int64(p.Count)*part.instructions, int64(p.Count)
			row(part.frames)
		}
		// What an instruction did to memory stands at its own address.
		block := &c.Blocks[p.Block]
		for _, cell := range cells[:mine] {
			for i := range len(values) - always {
				values[always+i] = int64(cell.N[i])
			}
			row(f.at(block.At(cell.Instruction), block.Function))
		}
		cells = cells[mine:]
	}
}

// maxDepth bounds chains of calls: what is deeper stands under the last that is kept. The
// plugin's own chains are shorter, but a program can write into its counts.
const maxDepth = 20_000

// always is how many columns each exact run has; the events of memory follow, in their order.
const always = 3

// Columns are those of a take of an exact run.
func Columns(m Memory) []measure.Column {
	out := []measure.Column{measure.Instructions, measure.ExactCalls, measure.Executions}
	if m.Accesses || m.Modelled() {
		out = append(out, measure.Loads, measure.Stores, measure.LoadedBytes, measure.StoredBytes)
	}
	if m.Modelled() {
		out = append(out, measure.MissedFirst, measure.MissedSecond, measure.Mispredicted)
	}
	return out
}

// file is a file of the process with where its code lay.
type file struct {
	Opened
	id profile.ModuleID
}

// part is a run of instructions of a block that are of one line.
type part struct {
	frames       []profile.FrameID // of its first instruction, the outermost first
	instructions int64
}

type folding struct {
	b       *profile.Builder
	c       *counts.Counts
	files   map[string]*file
	frames  map[uint64][]profile.FrameID // by address, the outermost first
	entries map[uint64]profile.FrameID   // by where the function begins
	threads map[uint32]profile.ThreadID
	begins  map[uint64]bool // addresses of blocks
	open    func(path string) Opened
}

// mapping finds what lay at an address, the latest first; nil where no file did.
func (f *folding) mapping(address uint64) *counts.Mapping {
	for i := len(f.c.Mappings) - 1; i >= 0; i-- {
		if m := &f.c.Mappings[i]; address >= m.Start && address < m.End {
			return m
		}
	}
	return nil
}

func (f *folding) file(name string) *file {
	x, ok := f.files[name]
	if !ok {
		o := f.open(name)
		x = &file{o, f.b.Module(profile.Module{Path: f.b.Intern(name), BuildID: f.b.Intern(o.BuildID), Kind: o.Kind})}
		f.files[name] = x
	}
	return x
}

// locate names an address, the innermost function first.
func (f *folding) locate(address uint64) (l []symbol.Location, module profile.ModuleID, in uint64) {
	m := f.mapping(address)
	if m == nil {
		return []symbol.Location{{Name: fmt.Sprintf("[anonymous]+0x%x", address), Unnamed: true, Kind: profile.KindJIT}}, f.b.Module(profile.Module{Path: f.b.Intern("[anonymous]"), Kind: profile.KindJIT}), address
	}
	x := f.file(m.Path)
	offset := address - m.Start + m.Offset
	if x.Object != nil {
		if at, ok := x.Object.Address(offset); ok {
			if l := x.Object.Locate(at); len(l) > 0 {
				return l, x.id, at
			}
		}
	}
	return []symbol.Location{{Name: fmt.Sprintf("%s+0x%x", path.Base(m.Path), offset), Unnamed: true, Kind: x.Kind}}, x.id, offset
}

func (f *folding) frame(l symbol.Location, module profile.ModuleID, address uint64) profile.FrameID {
	fn := f.b.Function(profile.Function{
		Name: f.b.Intern(l.Name), Linkage: f.b.Intern(l.Linkage), Module: module,
		File: f.b.Intern(l.File), Line: l.Start, Kind: l.Kind, Entry: l.Entry,
	})
	return f.b.Frame(profile.Frame{Function: fn, Line: l.Line, Address: address, Inlined: l.Inlined})
}

// at are the frames of an address, the outermost first. Of a call that is not known, it is the
// function that called.
func (f *folding) at(address, function uint64) []profile.FrameID {
	if address == 0 {
		return []profile.FrameID{f.entry(function)}
	}
	if frames, ok := f.frames[address]; ok {
		return frames
	}
	l, module, in := f.locate(address)
	frames := make([]profile.FrameID, len(l))
	for i := range l {
		frames[len(l)-1-i] = f.frame(l[i], module, in)
	}
	f.frames[address] = frames
	return frames
}

// entry is the frame of a function where it begins, without what was inlined there.
func (f *folding) entry(function uint64) profile.FrameID {
	if frame, ok := f.entries[function]; ok {
		return frame
	}
	l, module, in := f.locate(function)
	frame := f.frame(l[len(l)-1], module, in)
	f.entries[function] = frame
	return frame
}

// parts splits a block where line or inlined function change, and where another block begins, so
// that all of a part is executed as often as its first instruction, in whichever block that is.
func (f *folding) parts(b *counts.Block) (out []part) {
	type key struct {
		function profile.FunctionID
		line     uint32
		depth    int
	}
	p := f.b.Profile()
	var last key
	address := b.Address
	for _, length := range b.Lengths {
		frames := f.at(address, b.Function)
		innermost := p.Frames[frames[len(frames)-1]]
		k := key{innermost.Function, innermost.Line, len(frames)}
		if len(out) == 0 || k != last || f.begins[address] {
			out, last = append(out, part{frames: frames}), k
		}
		out[len(out)-1].instructions++
		address += uint64(length)
	}
	return out
}
