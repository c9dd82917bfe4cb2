package sampler

import (
	"errors"
	"fmt"
	"path"
	"sort"
	"strings"

	"entelon/core/profile"
	"entelon/symbol"
)

// Marks that the kernel puts between the parts of a call chain
// (enum perf_callchain_context).
const (
	contextKernel = ^uint64(128) + 1
	contextUser   = ^uint64(512) + 1
	contextMax    = ^uint64(4095) + 1
)

// resolver turns samples into stacks of the profile.
type resolver struct {
	b       *profile.Builder
	ps      *processes
	modules *modules
	facts   *profile.Facts
	origin  uint64 // monotonic time at which the take began

	kernel       *symbol.Kernel
	kernelErr    error
	kernelFrames map[uint64]profile.FrameID

	cut     profile.FrameID
	sample  sample
	scratch []profile.FrameID
	unnamed map[string]int64 // samples by module whose innermost frame has no name
	noName  map[profile.FrameID]string
}

func newResolver(b *profile.Builder, facts *profile.Facts) *resolver {
	ms := newModules()
	r := &resolver{
		b: b, modules: ms, ps: newProcesses(b, ms), facts: facts,
		kernelFrames: map[uint64]profile.FrameID{}, unnamed: map[string]int64{}, noName: map[profile.FrameID]string{},
	}
	b.Measure("cpu", "ns", profile.Sum)
	mod := b.Module(profile.Module{Path: b.Intern("[mark]"), Kind: profile.KindMark})
	fn := b.Function(profile.Function{Name: b.Intern(CutOff), Module: mod, Kind: profile.KindMark})
	r.cut = b.Frame(profile.Frame{Function: fn})
	return r
}

// CutOff is the frame under which stacks stand whose outer part is unknown.
const CutOff = "[cut off: code without frame pointers]"

// add takes one sample record into the profile.
func (r *resolver) add(rec record) error {
	if !r.sample.decode(rec) {
		return errors.New("a sample's call chain is longer than its record")
	}
	p := r.ps.get(rec.pid)
	stack := r.stack(p, r.sample.chain)
	at := max(0, int64(rec.time)-int64(r.origin))
	r.b.Sample(at, r.ps.thread(p, rec.tid), stack, int64(r.sample.period))
	r.facts.Samples++
	return nil
}

// stack pushes a call chain, which has the innermost address first and the
// kernel's part before the user's.
func (r *resolver) stack(p *process, chain []uint64) profile.StackID {
	frames := r.scratch[:0] // innermost first
	inKernel, first := false, true
	user, begun := 0, false
	for _, ip := range chain {
		if ip >= contextMax {
			inKernel, first = ip == contextKernel, true
			continue
		}
		// All but the first address of a part are where a call returns to; the
		// call itself is before that.
		pc := ip
		if !first {
			pc--
		}
		first = false
		if inKernel {
			frames = append(frames, r.kernelFrame(pc))
			continue
		}
		at := r.userFrames(p, pc)
		// Nothing of the program is beyond where it was started, so what the
		// frame pointers still lead to there is no frame.
		entry := r.isEntry(at[len(at)-1])
		if begun && !entry {
			break
		}
		frames = append(frames, at...)
		begun = entry && user > 0
		user++
	}
	r.scratch = frames
	stack := profile.StackID(0)
	if user > 0 {
		r.facts.UserStacks++
		if r.isEntry(frames[len(frames)-1]) {
			r.facts.Complete++
		} else {
			stack = r.b.Push(0, r.cut)
		}
	}
	if len(frames) == 0 {
		return r.b.Push(0, r.cut)
	}
	if module, ok := r.noName[frames[0]]; ok {
		r.facts.Unnamed++
		r.unnamed[module]++
	}
	for i := len(frames) - 1; i >= 0; i-- {
		stack = r.b.Push(stack, frames[i])
	}
	return stack
}

// openKernel reads the kernel's symbols. That takes some 70 ms of processor
// time, most of it in the kernel, so it is done before the program begins.
func (r *resolver) openKernel() { r.kernel, r.kernelErr = symbol.OpenKernel() }

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
	f := r.frame(l, id, ip, module)
	r.kernelFrames[ip] = f
	return f
}

func (r *resolver) frame(l symbol.Location, m profile.ModuleID, addr uint64, module string) profile.FrameID {
	fn := r.b.Function(profile.Function{
		Name: r.b.Intern(l.Name), Linkage: r.b.Intern(l.Linkage), Module: m,
		File: r.b.Intern(l.File), Line: l.Start, Kind: l.Kind, Entry: l.Entry,
	})
	f := r.b.Frame(profile.Frame{Function: fn, Line: l.Line, Address: addr, Inlined: l.Inlined})
	if l.Unnamed {
		r.noName[f] = module
	}
	return f
}

// userFrames returns the frames at an address of a process, innermost first.
func (r *resolver) userFrames(p *process, ip uint64) []profile.FrameID {
	if f, ok := p.frames[ip]; ok {
		return f
	}
	f := r.locate(p, ip)
	p.frames[ip] = f
	return f
}

func (r *resolver) locate(p *process, ip uint64) []profile.FrameID {
	m := p.find(ip)
	if m == nil {
		return []profile.FrameID{r.frame(symbol.Location{Name: fmt.Sprintf("[unmapped]+0x%x", ip), Unnamed: true}, 0, ip, "memory that was not mapped")}
	}
	mod := m.module
	mod.open()
	offset := ip - m.start + m.offset
	if mod.object == nil {
		name := path.Base(mod.name)
		if mod.kind == profile.KindJIT {
			name, offset = "[anonymous]", ip
		}
		l := symbol.Location{Name: fmt.Sprintf("%s+0x%x", name, offset), Unnamed: true, Kind: mod.kind}
		return []profile.FrameID{r.frame(l, r.moduleID(mod), offset, mod.name)}
	}
	addr, ok := mod.object.Address(offset)
	if !ok {
		addr = offset
	}
	if f, ok := mod.frames[addr]; ok {
		return f
	}
	var out []profile.FrameID
	for _, l := range mod.object.Locate(addr) {
		out = append(out, r.frame(l, r.moduleID(mod), addr, mod.name))
	}
	mod.frames[addr] = out
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

// worstUnnamed returns the module with the most samples that have no name.
func (r *resolver) worstUnnamed() (string, int64) {
	names := make([]string, 0, len(r.unnamed))
	for n := range r.unnamed {
		names = append(names, n)
	}
	sort.Slice(names, func(i, j int) bool {
		if r.unnamed[names[i]] != r.unnamed[names[j]] {
			return r.unnamed[names[i]] > r.unnamed[names[j]]
		}
		return names[i] < names[j]
	})
	if len(names) == 0 {
		return "", 0
	}
	return names[0], r.unnamed[names[0]]
}

// unreadable lists the files that could not be read, each with the reason.
func (r *resolver) unreadable() []string {
	var out []string
	for _, m := range r.modules.known {
		switch {
		case m.failed != nil && m.tried:
			out = append(out, strings.TrimSpace(m.failed.Error()))
		case m.object != nil && m.object.Fault != nil:
			out = append(out, strings.TrimSpace(m.object.Fault.Error()))
		}
	}
	sort.Strings(out)
	return out
}

// close lets go of all files.
func (r *resolver) close() error {
	var errs []error
	for _, m := range r.modules.known {
		if m.object != nil {
			errs = append(errs, m.object.Close())
		} else if m.file != nil {
			errs = append(errs, m.file.Close())
		}
	}
	return errors.Join(errs...)
}
