package replay

import (
	"fmt"
	"slices"

	"entelon/core/profile"
	"entelon/resolve"
	"entelon/resolve/raw"
	"entelon/runtimes/python"
	"entelon/symbol"
)

// Recorder passes on what a world answers, and writes it down. It implements
// resolve.World.
type Recorder struct {
	out     *Recording
	world   resolve.World
	modules []*recordedModule
}

// NewRecorder stands between a resolver and its world.
func NewRecorder(w resolve.World) *Recorder {
	return &Recorder{world: w, out: &Recording{
		Mappings: map[uint32][]raw.Mapping{}, Threads: map[string]string{}, Kernel: map[uint64]Named{},
		Made: map[string]Piece{}, Memory: map[string][]byte{},
	}}
}

// Note writes a record down. column is of the profile, in which a sample counts.
func (r *Recorder) Note(rec *raw.Record, early bool, column int) {
	r.out.Records = append(r.out.Records, Record{Record: copied(rec), Early: early, Column: column})
}

// Recording returns what was written down.
func (r *Recorder) Recording(p *profile.Profile, origin uint64) *Recording {
	r.out.Origin = origin
	for i := range p.Measures {
		r.out.Columns = append(r.out.Columns, p.Words(i))
	}
	for _, m := range r.modules {
		m.finish()
	}
	return r.out
}

// copied is a record with memory of its own.
func copied(rec *raw.Record) raw.Record {
	out := *rec
	if rec.Sample != nil {
		s := *rec.Sample
		s.Data, s.Kernel, s.Chain = slices.Clone(s.Data), slices.Clone(s.Kernel), slices.Clone(s.Chain)
		s.Memory, s.Labels, s.Python = slices.Clone(s.Memory), slices.Clone(s.Labels), slices.Clone(s.Python)
		for i := range s.Memory {
			s.Memory[i].Bytes = slices.Clone(s.Memory[i].Bytes)
		}
		for i := range s.Labels {
			s.Labels[i].Name, s.Labels[i].Text = slices.Clone(s.Labels[i].Name), slices.Clone(s.Labels[i].Text)
		}
		for i := range s.Python {
			s.Python[i].Entries = slices.Clone(s.Python[i].Entries)
		}
		out.Sample = &s
	}
	if rec.Code != nil {
		c := *rec.Code
		c.Bytes = slices.Clone(c.Bytes)
		out.Code = &c
	}
	return out
}

func key(parts ...uint64) string { return fmt.Sprint(parts) }

// Mappings implements resolve.World.
func (r *Recorder) Mappings(pid uint32) []raw.Mapping {
	m := r.world.Mappings(pid)
	r.out.Mappings[pid] = m
	return m
}

// ThreadName implements resolve.World.
func (r *Recorder) ThreadName(pid, tid uint32) string {
	name := r.world.ThreadName(pid, tid)
	r.out.Threads[key(uint64(pid), uint64(tid))] = name
	return name
}

// Kernel implements resolve.World.
func (r *Recorder) Kernel(address uint64) (symbol.Location, string) {
	l, m := r.world.Kernel(address)
	r.out.Kernel[address] = Named{l, m}
	return l, m
}

// Leave implements resolve.World. What was asked of the module stays.
func (r *Recorder) Leave(m resolve.Module) {
	if x, ok := m.(*recordedModule); ok {
		x.finish()
		r.world.Leave(x.Module)
		r.modules = slices.DeleteFunc(r.modules, func(y *recordedModule) bool { return x == y })
	}
}

// Memory implements resolve.World.
func (r *Recorder) Memory(pid uint32, address uint64, n int) []byte {
	b := r.world.Memory(pid, address, n)
	r.out.Memory[key(uint64(pid), address, uint64(n))] = b
	return b
}

// Module implements resolve.World.
func (r *Recorder) Module(pid uint32, m *raw.Mapping) resolve.Module {
	x := r.world.Module(pid, m)
	out := &Module{Mapping: *m, Kind: x.Kind(), Places: map[uint64]uint64{}, Located: map[uint64][]symbol.Location{}}
	r.out.Modules = append(r.out.Modules, out)
	rec := &recordedModule{Module: x, out: out}
	r.modules = append(r.modules, rec)
	return rec
}

// recordedModule writes down what is asked of a module.
type recordedModule struct {
	resolve.Module
	out *Module
}

func (m *recordedModule) Address(offset uint64) (uint64, bool) {
	a, ok := m.Module.Address(offset)
	if ok {
		m.out.Places[offset] = a
	}
	return a, ok
}

func (m *recordedModule) Locate(address uint64) []symbol.Location {
	l := m.Module.Locate(address)
	m.out.Located[address] = l
	return l
}

func (m *recordedModule) Go() *symbol.GoRuntime {
	m.out.Go = m.Module.Go()
	return m.out.Go
}

func (m *recordedModule) Python() *python.Interpreter {
	p := m.Module.Python()
	if p != nil {
		shown := *p
		if p.Err != nil {
			m.out.Fault, shown.Err = p.Err.Error(), nil
		}
		m.out.Python = &shown
	}
	return p
}

// finish keeps the rules of the addresses that were asked for.
func (m *recordedModule) finish() {
	if m.out.Readable = m.Readable(); !m.out.Readable {
		return
	}
	m.out.BuildID = m.BuildID()
	if t := m.Table(); t != nil {
		var at []uint64
		for offset, address := range m.out.Places {
			at = append(at, address, offset) // of one that is in no segment the offset is looked up
		}
		m.out.Rules = t.Part(at).Keep()
	}
}

// MadeCode implements resolve.World.
func (r *Recorder) MadeCode(pid uint32, asks bool) resolve.MadeCode {
	return &recordedCode{r.world.MadeCode(pid, asks), pid, r.out}
}

type recordedCode struct {
	resolve.MadeCode
	pid uint32
	out *Recording
}

func (c *recordedCode) Find(address, at uint64) (string, uint64, bool) {
	name, start, ok := c.MadeCode.Find(address, at)
	if ok {
		c.out.Made[key(uint64(c.pid), address, at)] = Piece{name, start}
	}
	return name, start, ok
}
