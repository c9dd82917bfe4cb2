package resolve

import (
	"fmt"
	"path"

	"entelon/core/profile"
	"entelon/symbol"
	"entelon/unwind"
)

// OpenKernel reads the kernel's symbols. That takes about 70 ms of processor
// time, most of it in the kernel, or 10 where they were kept, so it is done before the
// program begins, and may be done beside what else is prepared.
func (r *Resolver) OpenKernel() { r.kernel, r.KernelErr = symbol.OpenKernel(r.Modules.Cache()) }

// WithoutKernel forgets them where its part of the stacks may not be seen.
func (r *Resolver) WithoutKernel() error {
	err := r.kernel.Close()
	r.kernel, r.KernelErr = nil, nil
	return err
}

func (r *Resolver) isEntry(f profile.FrameID) bool {
	p := r.Builder.Profile()
	return p.Functions[p.Frames[f].Function].Entry
}

func (r *Resolver) kernelFrame(ip uint64) profile.FrameID {
	if f, ok := r.kernelFrames[ip]; ok {
		return f
	}
	l, module := r.kernel.Locate(ip)
	id := r.Builder.Module(profile.Module{Path: r.Builder.Intern(module), Kind: profile.KindKernel})
	f := r.frame(l, id, ip, module, profile.FoundKernelWalk)
	r.kernelFrames[ip] = f
	return f
}

func (r *Resolver) frame(l symbol.Location, m profile.ModuleID, addr uint64, module string, found profile.Found) profile.FrameID {
	fn := r.Builder.Function(profile.Function{
		Name: r.Builder.Intern(l.Name), Linkage: r.Builder.Intern(l.Linkage), Module: m,
		File: r.Builder.Intern(l.File), Line: l.Start, Kind: l.Kind, Entry: l.Entry,
	})
	f := r.Builder.Frame(profile.Frame{Function: fn, Line: l.Line, Address: addr, Inlined: l.Inlined, Found: found})
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

// UserFrames returns the frames at a step of a walk, the innermost first.
func (r *Resolver) UserFrames(p *Process, s unwind.Step) []profile.FrameID {
	if f, ok := p.frames[s]; ok {
		return f
	}
	if m := p.Find(s.Address); m != nil && m.Module.Kind == profile.KindJIT {
		if f := r.jitFrame(p, s.Address, r.now, foundOf[s.How]); f != 0 {
			return []profile.FrameID{f}
		}
		return r.framesAt(r.place(p, s)) // its name may come with the next sample
	}
	f := r.framesAt(r.place(p, s))
	p.frames[s] = f
	return f
}

func (r *Resolver) place(p *Process, s unwind.Step) place {
	m := p.Find(s.Address)
	if m == nil {
		return place{address: s.Address, found: s.How}
	}
	mod := m.Module
	mod.open()
	x := place{module: mod, address: s.Address, offset: s.Address - m.start + m.offset, found: s.How, made: mod.Kind == profile.KindJIT}
	if mod.Object != nil {
		addr, ok := mod.Object.Address(x.offset)
		if !ok {
			addr = x.offset
		}
		x.address = addr
	}
	return x
}

func (r *Resolver) framesAt(x place) []profile.FrameID {
	found := foundOf[x.found]
	mod := x.module
	if mod == nil {
		l := symbol.Location{Name: fmt.Sprintf("[unmapped]+0x%x", x.address), Unnamed: true}
		return []profile.FrameID{r.frame(l, 0, x.address, "memory that was not mapped", found)}
	}
	if mod.Object == nil {
		name, offset := path.Base(mod.Name), x.offset
		if mod.Kind == profile.KindJIT {
			name, offset = "[anonymous]", x.address
		}
		l := symbol.Location{Name: fmt.Sprintf("%s+0x%x", name, offset), Unnamed: true, Kind: mod.Kind}
		return []profile.FrameID{r.frame(l, r.moduleID(mod), offset, mod.Name, found)}
	}
	key := unwind.Step{Address: x.address, How: x.found}
	if f, ok := mod.frames[key]; ok {
		return f
	}
	var out []profile.FrameID
	for _, l := range mod.Object.Locate(x.address) {
		out = append(out, r.frame(l, r.moduleID(mod), x.address, mod.Name, found))
	}
	mod.frames[key] = out
	return out
}

func (r *Resolver) moduleID(m *module) profile.ModuleID {
	if !m.IDSet {
		build := ""
		if m.Object != nil {
			build = m.Object.BuildID
		}
		m.ID = r.Builder.Module(profile.Module{Path: r.Builder.Intern(m.Name), BuildID: r.Builder.Intern(build), Kind: m.Kind})
		m.IDSet = true
	}
	return m.ID
}
