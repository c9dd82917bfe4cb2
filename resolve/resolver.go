// Package resolve turns a raw sample into frames: it walks the stack by the mappings of
// that moment, gives addresses names, weaves an interpreter's frames among the native
// ones, and puts the result into a profile. It opens no event and waits for nothing but
// names that are on their way.
//
// A Resolver and its processes belong to one goroutine, which hands over all records in
// the order of their times. What reads a Java machine's map runs beside it and is
// behind a lock of its own.
package resolve

import (
	"errors"
	"sort"
	"strings"
	"time"

	"entelon/core/profile"
	"entelon/linux/bpf"
	"entelon/linux/perf"
	"entelon/symbol"
	"entelon/unwind"
)

// Marks that the kernel puts between the parts of a call chain
// (enum perf_callchain_context).
const (
	contextKernel = ^uint64(128) + 1
	contextUser   = ^uint64(512) + 1
	contextMax    = ^uint64(4095) + 1
)

// Resolver turns samples into stacks of the profile: it walks each stack with
// the mappings of that moment, and then gives its addresses names.
type Resolver struct {
	Builder   *profile.Builder
	Processes *Processes
	Modules   *modules
	facts     *profile.Facts
	Origin    uint64 // monotonic time at which the take began
	Began     time.Time
	Command   uint32 // the launched process, 0 where one was attached to
	Round     uint64 // of the consumer, counted from 1
	copied    bool   // the sample at hand carries registers and stack

	kernel       *symbol.Kernel
	KernelErr    error
	kernelFrames map[uint64]profile.FrameID

	values  []int64
	cut     [unwind.EndCount]int64 // stacks cut off, by reason
	now     uint64                 // time of the sample at hand
	Sample  perf.Sample
	RunTime perf.RunTime
	walk    unwind.Sample
	windows unwind.Memory
	Steps   []unwind.Step
	labels  profile.LabelSetID // of the sample that was walked last
	parked  []parked           // walked, but without names yet
	python  pythonStack
	scratch []profile.FrameID
	user    []profile.FrameID
	Unnamed map[string]int64 // samples by module whose innermost frame has no name
	noName  map[profile.FrameID]string
	Keeper  keeper           // nil: all samples are kept
	NoTable map[string]int64 // stacks by module whose code has no tables
}

// New makes a resolver that adds to a profile and to the facts of a take. finder looks
// for separate debug files; nil: none are used.
func New(b *profile.Builder, facts *profile.Facts, finder *symbol.Finder) *Resolver {
	ms := newModules(finder)
	r := &Resolver{
		Builder: b, Modules: ms, Processes: newProcesses(b, ms), facts: facts,
		kernelFrames: map[uint64]profile.FrameID{}, Unnamed: map[string]int64{},
		noName: map[profile.FrameID]string{}, NoTable: map[string]int64{}, RunTime: perf.RunTime{},
	}
	return r
}

// CutMarks are the frames at the root of stacks whose outer part is unknown.
var CutMarks = [unwind.EndCount]profile.Mark{
	unwind.Deeper:     profile.CutDeeper,
	unwind.OtherStack: profile.CutOtherStack,
	unwind.NoTable:    profile.CutNoTable,
	unwind.NoCode:     profile.CutNoCode,
	unwind.NoMemory:   profile.CutNoMemory,
	unwind.Circle:     profile.CutCircle,
	unwind.TooMany:    profile.CutTooMany,
	unwind.Torn:       profile.CutTorn,
}

// cutFrame returns the mark for a reason.
func (r *Resolver) cutFrame(end unwind.End) profile.FrameID { return r.Mark(CutMarks[end]) }

// Seen is a sample whose stack is walked: the frames of the kernel, and the
// program's as a stack or, where names are still on their way, as places in
// modules. Mappings may change before it gets its names.
type Seen struct {
	At     int64
	Time   uint64 // monotonic
	Of     *Process
	Thread profile.ThreadID
	kernel []profile.FrameID
	places []place
	end    unwind.End
	Stack  profile.StackID
	labels profile.LabelSetID
	Ready  bool // stack is set
}

// parked is a sample that waits for names, with what it will count as.
type parked struct {
	Seen
	mark   profile.FrameID
	values []int64
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

// Form is what a sample brings besides its call chain.
type Form struct {
	Copied bool // registers and a copy of the stack
	Raw    bool // a tracepoint's own record
	Timed  bool // for how long the event has run
}

// keeper decides which samples are kept.
type keeper interface {
	// Keeps reports whether the sample at a position of the profile is.
	Keeps(i int) bool
	// Leave notes the values of one that was not.
	Leave(values []int64)
}

// Value sets one column, and those behind it, of values that are 0 otherwise.
// The slice is used again by the next call.
func (r *Resolver) Value(column int, v ...int64) []int64 {
	n := len(r.Builder.Profile().Measures)
	if len(r.values) != n {
		r.values = make([]int64, n)
	}
	clear(r.values)
	copy(r.values[column:], v)
	return r.values
}

// See walks the stack of a sample.
func (r *Resolver) See(rec perf.Record, has Form) (Seen, error) {
	r.copied = has.Copied
	if !r.Sample.Decode(rec, has.Copied, has.Raw, has.Timed) {
		return Seen{}, errors.New("a sample is longer than its record")
	}
	p := r.Processes.Get(rec.PID)
	x := Seen{At: r.Since(rec.Time), Time: rec.Time, Of: p, Thread: r.Processes.Thread(p, rec.TID)}
	kernel, user := r.Split(r.Sample.Chain)
	x.end = r.unwind(p, user, rec)
	x.labels = r.labels
	r.now = rec.Time
	if !r.fetching(p) {
		x.Stack, x.Ready = r.stack(p, kernel, x.end), true
		return x, nil
	}
	x.kernel = append([]profile.FrameID(nil), kernel...)
	r.layOut(p, func(s unwind.Step) { x.places = append(x.places, r.place(p, s)) },
		func(f profile.FrameID) { x.places = append(x.places, place{frame: f}) })
	return x, nil
}

// Since returns a monotonic time as nanoseconds since the take began.
func (r *Resolver) Since(time uint64) int64 { return max(0, int64(time)-int64(r.Origin)) }

// Keep adds a sample to the profile, under a mark that is no function where
// there is one.
func (r *Resolver) Keep(x Seen, mark profile.FrameID, values []int64) {
	if x.Ready {
		r.put(x, r.marked(x.Stack, mark), values)
		return
	}
	r.parked = append(r.parked, parked{x, mark, append([]int64(nil), values...)})
}

// put adds a sample to the profile if it is to be kept.
func (r *Resolver) put(x Seen, stack profile.StackID, values []int64) {
	r.Builder.Sample(x.At, x.Thread, stack, values...)
	r.Builder.Labelled(x.labels)
	if r.Keeper != nil && !r.Keeper.Keeps(r.Builder.Profile().Samples.Len()-1) {
		r.Builder.TakeBack()
		r.Keeper.Leave(values)
		return
	}
	r.facts.Samples++
}

func (r *Resolver) marked(s profile.StackID, mark profile.FrameID) profile.StackID {
	if mark == 0 {
		return s
	}
	return r.Builder.Push(s, mark)
}

// Mark returns the frame of a mark.
func (r *Resolver) Mark(m profile.Mark) profile.FrameID { return r.Builder.Mark(m, m.Key()) }

// Split separates the kernel's part of a call chain, as frames, the innermost
// first, from the program's.
func (r *Resolver) Split(chain []uint64) (kernel []profile.FrameID, user []uint64) {
	kernel = r.scratch[:0]
	inKernel, first := false, true
	for i, ip := range chain {
		if ip >= contextMax {
			inKernel, first = ip == contextKernel, true
			if ip == contextUser {
				user = chain[i+1:]
				break
			}
			continue
		}
		if !inKernel {
			continue
		}
		// All but the first address are where a call returns to; the call
		// itself is before that.
		if !first {
			ip--
		}
		first = false
		kernel = append(kernel, r.kernelFrame(ip))
	}
	r.scratch = kernel
	return kernel, user
}

// unwind walks the program's part of a stack into steps.
func (r *Resolver) unwind(p *Process, chain []uint64, rec perf.Record) unwind.End {
	r.Steps, r.labels = r.Steps[:0], 0
	r.python.reset()
	if !r.copied {
		return r.followChain(p, chain)
	}
	if !r.Sample.Known {
		return unwind.Entry // a thread of the kernel
	}
	registers := RegistersOf(&r.Sample)
	sp := registers.Value[unwind.RSP]
	r.windows = r.windows[:0]
	if len(r.Sample.Stack) > 0 {
		r.windows = append(r.windows, unwind.Window{Start: sp, Bytes: r.Sample.Stack})
	}
	r.walk = unwind.Sample{Registers: registers, Full: r.Sample.Full, Kernel: chain, Depths: r.walk.Depths}
	for _, b := range rec.Others {
		h, body, ok := bpf.Decode(b)
		if !ok {
			continue // the stack is then cut off, as it would be without it
		}
		switch h.Kind {
		case bpf.KindPython:
			r.python.add(h, body, p.python)
		case bpf.KindLabels:
			var whole bool
			if r.labels, whole = labelsOf(h, body, r.Builder); !whole {
				r.facts.Unlabelled++
			} else if r.labels != 0 {
				r.facts.Labelled++
			}
		default:
			r.windows = addCopy(r.windows, h, body, &r.walk.Go)
		}
	}
	r.walk.Memory = r.windows
	var end unwind.End
	r.Steps, end = unwind.Walk(p, &p.rules, &r.walk, r.Steps)
	if !r.python.cut(p.python) {
		r.facts.Torn++
		end = unwind.Torn
	}
	return end
}

// addCopy adds a copied part of a stack to the memory that is known.
func addCopy(windows unwind.Memory, h bpf.Header, body []byte, goes *unwind.GoStacks) unwind.Memory {
	if h.Kind == bpf.KindGoStack {
		*goes = unwind.GoStacks{Known: true, Low: h.Low, High: h.High, SP: h.Sp, PC: h.Pc, BP: h.Bp, SystemSP: h.SystemSp}
	}
	if len(body) == 0 {
		return windows
	}
	return append(windows, unwind.Window{Start: h.Addr, Bytes: body})
}

// registerNumbers are the numbers in package unwind of the registers that come with a
// sample.
var registerNumbers = [...]int{
	unwind.RAX, unwind.RBX, unwind.RCX, unwind.RDX, unwind.RSI, unwind.RDI, unwind.RBP, unwind.RSP, unwind.PC,
	unwind.R8, unwind.R9, unwind.R10, unwind.R11, unwind.R12, unwind.R13, unwind.R14, unwind.R15,
}

// RegistersOf are a sample's registers as package unwind has them.
func RegistersOf(s *perf.Sample) (out unwind.Registers) {
	for i, v := range s.Registers {
		out.Set(registerNumbers[i], v)
	}
	return out
}

// followChain takes the kernel's walk along frame pointers for the stack.
func (r *Resolver) followChain(p *Process, chain []uint64) unwind.End {
	begun := false
	for i, ip := range chain {
		s := unwind.Step{Address: ip, How: unwind.Counter}
		if i > 0 {
			s = unwind.Step{Address: ip - 1, How: unwind.FramePointer}
		}
		// Nothing of the program is beyond where it was started, so what the
		// frame pointers still lead to there is no frame.
		entry := r.isEntry(r.outermost(p, s))
		if begun && !entry {
			break
		}
		r.Steps = append(r.Steps, s)
		begun = entry && i > 0
	}
	if len(r.Steps) > 0 && !r.isEntry(r.outermost(p, r.Steps[len(r.Steps)-1])) {
		return unwind.NoTable
	}
	return unwind.Entry
}

func (r *Resolver) outermost(p *Process, s unwind.Step) profile.FrameID {
	f := r.UserFrames(p, s)
	return f[len(f)-1]
}

// fetching reports whether names of the stack that was just walked are still
// on their way.
func (r *Resolver) fetching(p *Process) bool {
	if j := p.Made; j != nil && j.java != nil && !j.java.settled(j.Codes.Last(), r.now) {
		return true
	}
	if f := r.Modules.finder; f == nil || len(f.Servers) == 0 {
		return false
	}
	for _, s := range r.Steps {
		if m := p.Find(s.Address); m != nil {
			if m.Module.open(); m.Module.fetching() {
				return true
			}
		}
	}
	return false
}

// NameParked gives names to the samples that waited for them, where all of
// them are there; where wait is set, it waits.
func (r *Resolver) NameParked(wait bool) {
	for n, x := range r.parked {
		if j := x.Of.Made; j != nil && j.java != nil && !j.java.settled(j.Codes.Last(), x.Time) {
			if !wait {
				r.parked = append([]parked(nil), r.parked[n:]...)
				return
			}
			j.java.await(j.Codes.Last(), x.Time)
			j.looked = 0
		}
		r.now = x.Time
		for _, s := range x.places {
			if s.module != nil && s.module.fetching() {
				if !wait {
					r.parked = append([]parked(nil), r.parked[n:]...)
					return
				}
				<-s.module.ready
			}
		}
		var frames []profile.FrameID
		for _, s := range x.places {
			if s.frame != 0 {
				frames = append(frames, s.frame)
				continue
			}
			if s.made {
				if f := r.jitFrame(x.Of, s.address, x.Time, foundOf[s.found]); f != 0 {
					frames = append(frames, f)
					continue
				}
			}
			frames = append(frames, r.framesAt(s)...)
		}
		var last *module
		if len(x.places) > 0 {
			last = x.places[len(x.places)-1].module
		}
		r.put(x.Seen, r.marked(r.push(x.kernel, frames, x.end, last), x.mark), x.values)
	}
	r.parked = nil
}

// stack pushes the stack that was just walked.
func (r *Resolver) stack(p *Process, kernel []profile.FrameID, end unwind.End) profile.StackID {
	user := r.user[:0]
	r.layOut(p, func(s unwind.Step) { user = append(user, r.UserFrames(p, s)...) },
		func(f profile.FrameID) { user = append(user, f) })
	r.user = user
	var last *module
	if n := len(r.Steps); n > 0 {
		if m := p.Find(r.Steps[n-1].Address); m != nil {
			last = m.Module
		}
	}
	return r.push(kernel, user, end, last)
}

// push adds a stack of frames, the innermost first, and counts how it ended.
// last is the module in which the walk ended.
func (r *Resolver) push(kernel, user []profile.FrameID, end unwind.End, last *module) profile.StackID {
	stack := profile.StackID(0)
	if len(user) > 0 {
		r.facts.UserStacks++
		// Where a program or a thread begins need not have tables: the loader's
		// own first function, the stub that starts a thread.
		if end == unwind.Entry || end == unwind.NoTable && r.isEntry(user[len(user)-1]) {
			r.facts.Complete++
		} else {
			stack = r.Builder.Push(0, r.cutFrame(end))
			r.cut[end]++
			if end == unwind.NoTable && last != nil {
				r.NoTable[last.Name]++
			}
		}
	}
	for i := len(user) - 1; i >= 0; i-- {
		stack = r.Builder.Push(stack, user[i])
	}
	for i := len(kernel) - 1; i >= 0; i-- {
		stack = r.Builder.Push(stack, kernel[i])
	}
	if stack == 0 {
		return r.Builder.Push(0, r.cutFrame(unwind.NoMemory))
	}
	if module, ok := r.noName[r.Builder.Profile().Stacks.Frame[stack]]; ok {
		r.facts.Unnamed++
		r.Unnamed[module]++
	}
	return stack
}

// CutOff lists why stacks are cut off, the most frequent reason first.
func (r *Resolver) CutOff() []profile.Cut {
	var out []profile.Cut
	for end, n := range r.cut {
		if n > 0 {
			out = append(out, profile.CutBy(CutMarks[end], n))
		}
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].Stacks > out[j].Stacks })
	return out
}

// Most returns the name with the highest count, and the count.
func Most(counts map[string]int64) (name string, n int64) {
	for k, v := range counts {
		if v > n || v == n && k < name {
			name, n = k, v
		}
	}
	return name, n
}

// Unreadable lists the files that could not be read, each with the reason.
func (r *Resolver) Unreadable() []string {
	var out []string
	for _, m := range r.Modules.Known {
		switch {
		case m.failed != nil && m.tried:
			out = append(out, strings.TrimSpace(m.failed.Error()))
		case m.Object != nil && m.Object.Fault != nil:
			out = append(out, strings.TrimSpace(m.Object.Fault.Error()))
		case m.tableFault != nil:
			out = append(out, m.Name+": "+m.tableFault.Error())
		}
	}
	sort.Strings(out)
	return out
}

// Close lets go of all files.
func (r *Resolver) Close() error {
	var errs []error
	for _, m := range r.Modules.Known {
		if m.Object != nil {
			errs = append(errs, m.Object.Close())
		} else if m.file != nil {
			errs = append(errs, m.file.Close())
		}
	}
	errs = append(errs, r.kernel.Close())
	for _, p := range r.Processes.Known {
		errs = append(errs, p.Made.close(r.facts.RuntimeSet != "" && p.PID == r.Command))
		if p.Made != nil && p.Made.java != nil {
			p.Made.java.end()
		}
	}
	return errors.Join(errs...)
}
