package resolve

import (
	"sort"

	"entelon/core/profile"
	"entelon/runtimes/python"
	"entelon/symbol/instructions"
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
	PID    uint32
	name   string
	id     profile.ProcessID
	idSet  bool
	maps   []mapping // by start, without overlap
	frames map[unwind.Step][]profile.FrameID
	rules  unwind.Cache

	python *python.Layout // nil where it does not run CPython
	codes  *pythonCodesRead

	made       MadeCode // nil where no sample has hit code made at run time
	madeFrames map[madePlace]profile.FrameID
	java       bool
}

// Table implements unwind.Code.
func (p *Process) Table(addr uint64) (t *unwind.Table, bias uint64, mapped bool) {
	m := p.Find(addr)
	if m == nil {
		return nil, 0, false
	}
	t = m.Module.Table()
	if t == nil {
		return nil, 0, true
	}
	offset := addr - m.start + m.offset
	own, ok := m.Module.Address(offset)
	if !ok {
		own = offset
	}
	return t, addr - own, true
}

// Instructions implements unwind.Instructed.
func (p *Process) Instructions(addr uint64) (*instructions.Code, uint64) {
	m := p.Find(addr)
	if m == nil {
		return nil, 0
	}
	c := m.Module.Instructions()
	if c == nil {
		return nil, 0
	}
	offset := addr - m.start + m.offset
	own, ok := m.Module.Address(offset)
	if !ok {
		return nil, 0
	}
	return c, addr - own
}

// place is where a step of a walk is.
func (p *Process) place(s unwind.Step) place {
	m := p.Find(s.Address)
	if m == nil {
		return place{address: s.Address, found: s.How}
	}
	mod := m.Module
	x := place{module: mod, address: s.Address, offset: s.Address - m.start + m.offset, found: s.How, made: mod.Kind() == profile.KindJIT}
	if mod.Readable() {
		addr, ok := mod.Address(x.offset)
		if !ok {
			addr = x.offset
		}
		x.address = addr
	}
	return x
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

// leaveMade forgets the code that a process has made.
func (p *Process) leaveMade() {
	if p.made != nil {
		p.made.Leave()
	}
	p.made, p.java = nil, false
	clear(p.madeFrames)
}
