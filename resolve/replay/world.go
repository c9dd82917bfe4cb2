package replay

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"entelon/core/profile"
	"entelon/resolve"
	"entelon/resolve/raw"
	"entelon/runtimes/python"
	"entelon/symbol"
	"entelon/symbol/instructions"
	"entelon/symbol/jit"
	"entelon/unwind"
)

// World answers from a recording. A nil recording knows nothing. It implements
// resolve.World.
type World struct{ r *Recording }

// NewWorld returns the world of a recording.
func NewWorld(r *Recording) *World {
	if r == nil {
		r = &Recording{}
	}
	return &World{r}
}

// Mappings implements resolve.World.
func (w *World) Mappings(pid uint32) []raw.Mapping { return w.r.Mappings[pid] }

// ThreadName implements resolve.World.
func (w *World) ThreadName(pid, tid uint32) string { return w.r.Threads[key(uint64(pid), uint64(tid))] }

// Kernel implements resolve.World.
func (w *World) Kernel(address uint64) (symbol.Location, string) {
	if n, ok := w.r.Kernel[address]; ok {
		return n.Location, n.Module
	}
	return symbol.Location{Name: fmt.Sprintf("[kernel]+0x%x", address), Unnamed: true, Kind: profile.KindKernel}, "[kernel]"
}

// Leave implements resolve.World.
func (w *World) Leave(resolve.Module) {}

// Memory implements resolve.World.
func (w *World) Memory(pid uint32, address uint64, n int) []byte {
	return w.r.Memory[key(uint64(pid), address, uint64(n))]
}

// Module implements resolve.World.
func (w *World) Module(_ uint32, m *raw.Mapping) resolve.Module {
	for _, x := range w.r.Modules {
		if y := x.Mapping; y.Name == m.Name && y.Inode == m.Inode && y.Major == m.Major && y.Minor == m.Minor {
			return newModule(x)
		}
	}
	return newModule(&Module{Mapping: *m, Kind: profile.KindUnknown})
}

// MadeCode implements resolve.World.
func (w *World) MadeCode(pid uint32, _ bool) resolve.MadeCode { return madeCode{pid, w.r} }

type module struct {
	m      *Module
	table  *unwind.Table
	python *python.Interpreter
}

func newModule(m *Module) *module {
	x := &module{m: m}
	if t, ok := unwind.Kept(m.Rules); ok {
		x.table = t
	}
	if m.Python != nil {
		p := *m.Python
		if m.Fault != "" {
			p.Err = errors.New(m.Fault)
		}
		x.python = &p
	}
	return x
}

func (x *module) Name() string                            { return x.m.Mapping.Name }
func (x *module) Kind() profile.ModuleKind                { return x.m.Kind }
func (x *module) BuildID() string                         { return x.m.BuildID }
func (x *module) Readable() bool                          { return x.m.Readable }
func (x *module) Locate(address uint64) []symbol.Location { return x.m.Located[address] }
func (x *module) Instructions() *instructions.Code        { return nil } // a recording has no code
func (x *module) Table() *unwind.Table                    { return x.table }
func (x *module) Go() *symbol.GoRuntime                   { return x.m.Go }
func (x *module) Python() *python.Interpreter             { return x.python }
func (x *module) Coming() bool                            { return false }
func (x *module) Await()                                  {}

func (x *module) Address(offset uint64) (uint64, bool) {
	a, ok := x.m.Places[offset]
	return a, ok
}

type madeCode struct {
	pid uint32
	r   *Recording
}

func (c madeCode) Find(address, at uint64) (name string, start uint64, ok bool) {
	p, ok := c.r.Made[key(uint64(c.pid), address, at)]
	return p.Name, p.Start, ok
}

func (c madeCode) Coming(uint64) bool              { return false }
func (c madeCode) Await(uint64)                    {}
func (c madeCode) SourceMap(string) *jit.SourceMap { return nil }
func (c madeCode) Leave()                          {}

// Play resolves all records in order and returns the profile. visit, which may be nil,
// is shown the frames of each sample.
func (r *Recording) Play(facts *profile.Facts, visit func(*raw.Record, *resolve.Frames, *profile.Profile)) *profile.Profile {
	b := profile.NewBuilder()
	for _, c := range r.Columns {
		b.Column(c)
	}
	x := resolve.New(b, facts, NewWorld(r))
	x.Origin = r.Origin
	x.Processes.TellPython = func(uint32, *python.Layout, uint64, bool) error { return nil }
	for i := range r.Records {
		rec := &r.Records[i]
		switch {
		case rec.Kind == raw.CodeRead && rec.Code != nil:
			x.LearnCode(&rec.Record)
		case rec.Early:
		case rec.Kind == raw.Sampled && rec.Sample != nil && rec.Column < len(r.Columns):
			seen, f := x.See(&rec.Record)
			x.Keep(seen, 0, x.Value(rec.Column, int64(rec.Sample.Period)))
			if visit != nil {
				visit(&rec.Record, f, b.Profile())
			}
		case rec.Kind == raw.Mapped && rec.Mapping == nil:
		default:
			x.Processes.Apply(&rec.Record)
		}
	}
	return b.Profile()
}

// Stacks writes a profile's samples as lines "frames count", the outermost frame first
// and the lines in order, with what a reader of a change wants to see of each frame.
func Stacks(p *profile.Profile) string {
	counts := map[string]int{}
	for _, s := range p.Samples.Stack {
		var frames []string
		p.Walk(s, func(f profile.FrameID) {
			x := p.Frames[f]
			text := p.FunctionName(x.Function)
			if x.Line > 0 {
				text += fmt.Sprintf(":%d", x.Line)
			}
			if x.Inlined {
				text += " (inlined)"
			}
			frames = append(frames, text)
		})
		slices.Reverse(frames)
		counts[strings.Join(frames, "; ")]++
	}
	var out strings.Builder
	for _, stack := range slices.Sorted(maps.Keys(counts)) {
		fmt.Fprintf(&out, "%s %d\n", stack, counts[stack])
	}
	return out.String()
}
