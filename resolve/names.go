package resolve

import (
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"entelon/core/profile"
	"entelon/runtimes/erlang"
	"entelon/runtimes/java"
	"entelon/runtimes/node"
	"entelon/symbol"
	"entelon/symbol/jit"
	"entelon/unwind"
)

// names makes frames of the profile of addresses, and remembers which.
type names struct {
	b      *profile.Builder
	world  World
	kernel map[uint64]profile.FrameID
	none   map[profile.FrameID]string // frames whose code has no name, with its module's
	// Frames of the kernel: whether they are of a program being replaced.
	loading map[profile.FrameID]bool
}

func newNames(b *profile.Builder, w World) names {
	return names{b: b, world: w, kernel: map[uint64]profile.FrameID{}, none: map[profile.FrameID]string{}, loading: map[profile.FrameID]bool{}}
}

// place is an address of a stack, by the module that was mapped there.
type place struct {
	module  *module // nil: nothing was mapped
	address uint64  // in the module's own address space, or the program's where it has none
	offset  uint64  // in the module's file
	found   unwind.How
	made    bool            // in code made at run time
	frame   profile.FrameID // where it is not 0: known already, and the rest is not set
}

// foundOf translates the ways of package unwind into those of the profile.
var foundOf = map[unwind.How]profile.Found{
	unwind.Unstated: profile.FoundUnstated, unwind.Counter: profile.FoundCounter, unwind.Tables: profile.FoundTables,
	unwind.FramePointer: profile.FoundFramePointer, unwind.GoTables: profile.FoundGoTables,
	unwind.KernelWalk: profile.FoundKernelWalk, unwind.Signal: profile.FoundSignal, unwind.TopOfStack: profile.FoundTopOfStack, unwind.Instructions: profile.FoundInstructions,
}

// isEntry reports whether a program or a thread begins in a frame's function.
func (n *names) isEntry(f profile.FrameID) bool {
	p := n.b.Profile()
	return p.Functions[p.Frames[f].Function].Entry
}

func (n *names) inKernel(ip uint64) profile.FrameID {
	if f, ok := n.kernel[ip]; ok {
		return f
	}
	l, module := n.world.Kernel(ip)
	id := n.b.Module(profile.Module{Path: n.b.Intern(module), Kind: profile.KindKernel})
	f := n.frame(l, id, ip, module, profile.FoundKernelWalk)
	n.kernel[ip] = f
	return f
}

// loads are the kernel's functions that put another program in the place of the one that
// asks for it. From some point in them on, there is neither the old program's stack nor the
// new one's.
var loads = []string{"load_elf_binary", "load_script", "begin_new_exec"}

// replaces reports whether frames of the kernel are of a program being replaced.
func (n *names) replaces(kernel []profile.FrameID) bool {
	p := n.b.Profile()
	for _, f := range kernel {
		is, known := n.loading[f]
		if !known {
			name, _, _ := strings.Cut(p.FunctionName(p.Frames[f].Function), ".")
			is = slices.Contains(loads, name)
			n.loading[f] = is
		}
		if is {
			return true
		}
	}
	return false
}

func (n *names) frame(l symbol.Location, m profile.ModuleID, addr uint64, module string, found profile.Found) profile.FrameID {
	fn := n.b.Function(profile.Function{
		Name: n.b.Intern(l.Name), Linkage: n.b.Intern(l.Linkage), Module: m,
		File: n.b.Intern(l.File), Line: l.Start, Kind: l.Kind, Entry: l.Entry,
	})
	f := n.b.Frame(profile.Frame{Function: fn, Line: l.Line, Address: addr, Inlined: l.Inlined, Found: found})
	if l.Unnamed {
		n.none[f] = module
	}
	return f
}

// at returns the frames at a step of a walk, the innermost first; coming says that
// there will be better ones. at is the time of the sample.
func (n *names) at(p *Process, s unwind.Step, at uint64) (frames []profile.FrameID, coming bool) {
	if f, ok := p.frames[s]; ok {
		return f, false
	}
	x := p.place(s)
	if x.module != nil && x.module.Coming() {
		return n.atPlace(x), true
	}
	if x.made {
		if f := n.made(p, s.Address, at, foundOf[s.How]); f != 0 {
			return []profile.FrameID{f}, false
		}
		return n.atPlace(x), false // its name may come with the next sample
	}
	f := n.atPlace(x)
	p.frames[s] = f
	return f, false
}

func (n *names) atPlace(x place) []profile.FrameID {
	found := foundOf[x.found]
	mod := x.module
	if mod == nil {
		l := symbol.Location{Name: fmt.Sprintf("[unmapped]+0x%x", x.address), Unnamed: true}
		return []profile.FrameID{n.frame(l, 0, x.address, "memory that was not mapped", found)}
	}
	if !mod.Readable() {
		name, offset := path.Base(mod.Name()), x.offset
		if mod.Kind() == profile.KindJIT {
			name, offset = "[anonymous]", x.address
		}
		l := symbol.Location{Name: fmt.Sprintf("%s+0x%x", name, offset), Unnamed: true, Kind: mod.Kind()}
		return []profile.FrameID{n.frame(l, n.moduleID(mod), offset, mod.Name(), found)}
	}
	key := unwind.Step{Address: x.address, How: x.found}
	if f, ok := mod.frames[key]; ok {
		return f
	}
	var out []profile.FrameID
	for _, l := range mod.Locate(x.address) {
		out = append(out, n.frame(l, n.moduleID(mod), x.address, mod.Name(), found))
	}
	mod.frames[key] = out
	return out
}

func (n *names) moduleID(m *module) profile.ModuleID {
	if !m.idSet {
		m.id = n.b.Module(profile.Module{Path: n.b.Intern(m.Name()), BuildID: n.b.Intern(m.BuildID()), Kind: m.Kind()})
		m.idSet = true
	}
	return m.id
}

// madePlace is a piece of code made at run time, and how a walk got there.
type madePlace struct {
	start uint64
	name  string
	found profile.Found
}

// made returns the frame of an address in code made at run time, 0 where nothing names it.
func (n *names) made(p *Process, addr, at uint64, found profile.Found) profile.FrameID {
	if p.made == nil { // it is looked for when the first sample hits it
		p.made = n.world.MadeCode(p.PID, false)
	}
	name, start, ok := p.made.Find(addr, at)
	if !ok {
		return 0
	}
	key := madePlace{start, name, found}
	if f, ok := p.madeFrames[key]; ok {
		return f
	}
	f := n.b.Frame(profile.Frame{Function: n.b.Function(n.madeFunction(p, name)), Address: start, Found: found})
	p.madeFrames[key] = f
	return f
}

// madeFunction makes the function that a name of a map means.
func (n *names) madeFunction(p *Process, name string) profile.Function {
	fn := profile.Function{Linkage: n.b.Intern(name)}
	module := func(path string) profile.ModuleID {
		return n.b.Module(profile.Module{Path: n.b.Intern(path), Kind: profile.KindJIT})
	}
	if s, ok := jit.ParseScriptName(name); ok {
		file, line := s.File, s.Line
		if m := p.made.SourceMap(s.File); m != nil {
			if source, to, ok := m.Find(s.Line, s.Column); ok {
				file, line = source, to
			}
		}
		short := s.Function
		if strings.HasPrefix(short, "(") { // one of many in a file
			short = fmt.Sprintf("%s %s:%d", strings.TrimSuffix(short, ")"), filepath.Base(file), line)
			short += ")"
		}
		fn.Name, fn.File, fn.Line = n.b.Intern(short), n.b.Intern(file), line
		fn.Kind, fn.Module = (node.Runtime{}).KindOf(file), module(file)
		return fn
	}
	if p.java {
		fn.Name = n.b.Intern(java.Name(name))
		if java.Name(name) == name {
			fn.Linkage = 0
		}
		fn.Kind, fn.Module = java.KindOf(name), module(java.Package(name))
		return fn
	}
	if function, of, ok := erlang.Function(name); ok {
		fn.Name, fn.Kind, fn.Module, fn.Entry = n.b.Intern(function), (erlang.Runtime{}).KindOf(name), module(of), erlang.Begins(name)
		return fn
	}
	fn.Name, fn.Linkage, fn.Module = n.b.Intern(name), 0, module("//anon")
	fn.Kind = profile.KindJIT
	for _, tag := range []string{"Builtin:", "BytecodeHandler:", "Handler:", "Stub:", "RegExp:", "LoadIC:", "KeyedLoadIC:", "StoreIC:"} {
		if strings.HasPrefix(name, tag) {
			fn.Kind = profile.KindRuntime
		}
	}
	return fn
}
