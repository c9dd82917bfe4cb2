package sampler

import (
	"fmt"
	"path"

	"entelon/core/profile"
	"entelon/symbol"
	"entelon/unwind"
)

// openKernel reads the kernel's symbols. That takes some 70 ms of processor
// time, most of it in the kernel, so it is done before the program begins.
func (r *resolver) openKernel() { r.kernel, r.kernelErr = symbol.OpenKernel(r.modules.cache()) }

func (r *resolver) isEntry(f profile.FrameID) bool {
	p := r.b.Profile()
	return p.Functions[p.Frames[f].Function].Entry
}

func (r *resolver) kernelFrame(ip uint64) profile.FrameID {
	if f, ok := r.kernelFrames[ip]; ok {
		return f
	}
	l, module := r.kernel.Locate(ip)
	id := r.b.Module(profile.Module{Path: r.b.Intern(module), Kind: profile.KindKernel})
	f := r.frame(l, id, ip, module, profile.FoundKernelWalk)
	r.kernelFrames[ip] = f
	return f
}

func (r *resolver) frame(l symbol.Location, m profile.ModuleID, addr uint64, module string, found profile.Found) profile.FrameID {
	fn := r.b.Function(profile.Function{
		Name: r.b.Intern(l.Name), Linkage: r.b.Intern(l.Linkage), Module: m,
		File: r.b.Intern(l.File), Line: l.Start, Kind: l.Kind, Entry: l.Entry,
	})
	f := r.b.Frame(profile.Frame{Function: fn, Line: l.Line, Address: addr, Inlined: l.Inlined, Found: found})
	if l.Unnamed {
		r.noName[f] = module
	}
	return f
}

// foundOf translates the ways of package unwind into those of the profile.
var foundOf = map[unwind.How]profile.Found{
	unwind.Unstated: profile.FoundUnstated, unwind.Counter: profile.FoundCounter, unwind.Tables: profile.FoundTables,
	unwind.FramePointer: profile.FoundFramePointer, unwind.GoTables: profile.FoundGoTables,
	unwind.KernelWalk: profile.FoundKernelWalk, unwind.Signal: profile.FoundSignal, unwind.TopOfStack: profile.FoundTopOfStack,
}

// userFrames returns the frames at a step of a walk, the innermost first.
func (r *resolver) userFrames(p *process, s unwind.Step) []profile.FrameID {
	if f, ok := p.frames[s]; ok {
		return f
	}
	if m := p.find(s.Address); m != nil && m.module.kind == profile.KindJIT {
		if f := r.jitFrame(p, s.Address, r.now, foundOf[s.How]); f != 0 {
			return []profile.FrameID{f}
		}
		return r.framesAt(r.place(p, s)) // its name may come with the next sample
	}
	f := r.framesAt(r.place(p, s))
	p.frames[s] = f
	return f
}

func (r *resolver) place(p *process, s unwind.Step) place {
	m := p.find(s.Address)
	if m == nil {
		return place{address: s.Address, found: s.How}
	}
	mod := m.module
	mod.open()
	x := place{module: mod, address: s.Address, offset: s.Address - m.start + m.offset, found: s.How, made: mod.kind == profile.KindJIT}
	if mod.object != nil {
		addr, ok := mod.object.Address(x.offset)
		if !ok {
			addr = x.offset
		}
		x.address = addr
	}
	return x
}

func (r *resolver) framesAt(x place) []profile.FrameID {
	found := foundOf[x.found]
	mod := x.module
	if mod == nil {
		l := symbol.Location{Name: fmt.Sprintf("[unmapped]+0x%x", x.address), Unnamed: true}
		return []profile.FrameID{r.frame(l, 0, x.address, "memory that was not mapped", found)}
	}
	if mod.object == nil {
		name, offset := path.Base(mod.name), x.offset
		if mod.kind == profile.KindJIT {
			name, offset = "[anonymous]", x.address
		}
		l := symbol.Location{Name: fmt.Sprintf("%s+0x%x", name, offset), Unnamed: true, Kind: mod.kind}
		return []profile.FrameID{r.frame(l, r.moduleID(mod), offset, mod.name, found)}
	}
	key := unwind.Step{Address: x.address, How: x.found}
	if f, ok := mod.frames[key]; ok {
		return f
	}
	var out []profile.FrameID
	for _, l := range mod.object.Locate(x.address) {
		out = append(out, r.frame(l, r.moduleID(mod), x.address, mod.name, found))
	}
	mod.frames[key] = out
	return out
}

func (r *resolver) moduleID(m *module) profile.ModuleID {
	if !m.idSet {
		build := ""
		if m.object != nil {
			build = m.object.BuildID
		}
		m.id = r.b.Module(profile.Module{Path: r.b.Intern(m.name), BuildID: r.b.Intern(build), Kind: m.kind})
		m.idSet = true
	}
	return m.id
}
