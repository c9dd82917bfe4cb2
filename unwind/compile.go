package unwind

import (
	"bytes"
	"fmt"
	"sort"
)

// Section is a part of a module: its bytes and where it is in the module's
// own address space.
type Section struct {
	Bytes []byte
	Addr  uint64
}

// GoFunction is what the tables of the Go linker tell of one function: how far
// the stack pointer is below where it was before the call, by address.
type GoFunction struct {
	Start, End uint64
	Outmost    bool // the runtime marks it as the outer end of a stack
	Switches   bool // it writes the stack pointer, so that its depth tells nothing
	Callback   bool // it runs Go code for C code (runtime.cgocallback)
	StandIn    bool // it stands for whoever left a stack (runtime.systemstack_switch)
	Sigreturn  bool // a signal handler returns to it (runtime.sigreturn__sigaction)
	Rows       []GoRow
}

// GoRow says that from Addr on the frame takes Depth bytes, the return
// address not counted.
type GoRow struct {
	Addr  uint64
	Depth int32
}

// Source is all that a module has for finding callers. Its slices are only
// read, and not kept.
type Source struct {
	EHFrame    Section
	DebugFrame Section
	Code       []Section
	GoFrames   func(visit func(GoFunction)) // nil where the module is not from the Go linker
}

// Compile makes a module's table. It never fails as a whole: Fault says what
// of the source could not be used.
func Compile(s Source) (t *Table) {
	b := newBuilder()
	t = b.t
	defer func() {
		if p := recover(); p != nil {
			// The file was cut short while it was mapped.
			t = &Table{Fault: fmt.Errorf("its call-frame information could not be read: %v", p)}
		}
	}()
	eh := &frameSection{data: s.EHFrame.Bytes, addr: s.EHFrame.Addr, eh: true, rank: 0}
	debug := &frameSection{data: s.DebugFrame.Bytes, addr: s.DebugFrame.Addr, rank: 1}
	fs := append(trampolines(s.Code), beginnings(s.Code)...)
	fs = eh.functions(fs)
	fs = debug.functions(fs)
	sort.SliceStable(fs, func(i, j int) bool {
		if fs[i].start != fs[j].start {
			return fs[i].start < fs[j].start
		}
		return fs[i].rank < fs[j].rank
	})
	t.Source = len(s.EHFrame.Bytes) + len(s.DebugFrame.Bytes)
	for _, x := range []*frameSection{eh, debug} {
		if t.Fault == nil {
			t.Fault = x.fault
		}
	}
	var goes []GoFunction
	if s.GoFrames != nil {
		s.GoFrames(func(f GoFunction) { goes = append(goes, f) })
	}
	b.compile(fs, goes)
	return b.finish()
}

// compile makes rows of functions in order of address. Where functions
// overlap, the one that begins first holds, and the next from its end on.
// Go's own tables hold where there are any.
func (b *builder) compile(fs []function, goes []GoFunction) {
	var end uint64
	for i := 0; i < len(fs) || len(goes) > 0; {
		if len(goes) > 0 && (i == len(fs) || goes[0].Start <= fs[i].start) {
			g := goes[0]
			goes = goes[1:]
			if g.Start >= end {
				b.goFunction(g)
				end = g.End
			}
			continue
		}
		f := &fs[i]
		i++
		if f.start < end {
			continue
		}
		if len(goes) > 0 && f.end > goes[0].Start {
			continue
		}
		if err := b.function(f); err != nil && b.t.Fault == nil {
			b.t.Fault = fmt.Errorf("the call-frame information of the function at 0x%x is damaged: %w", f.start, err)
		}
		end = f.end
		b.row(end, nil)
	}
}

func (b *builder) function(f *function) error {
	if f.section == nil {
		b.row(f.start, f.fixed)
		return nil
	}
	return f.rows(func(addr uint64, s *state) { b.row(addr, s.draft(f.cie.signal)) })
}

// goFunction makes the rows of a Go function. Its compiler keeps the caller's
// frame pointer just below the return address of every frame that is not empty.
func (b *builder) goFunction(g GoFunction) {
	defer b.row(g.End, nil)
	switch {
	case g.Outmost:
		b.row(g.Start, &draft{Rule: Rule{cfa: cfaOutmost, how: GoTables}})
		return
	case g.Sigreturn:
		b.row(g.Start, &draft{Rule: Rule{cfa: cfaSignal, how: Signal, signal: true}})
		return
	case g.StandIn:
		b.row(g.Start, &draft{Rule: Rule{cfa: cfaSwitch, how: FramePointer, role: roleStandIn}})
		return
	}
	for _, r := range g.Rows {
		if g.Switches {
			d := &draft{Rule: Rule{cfa: cfaSwitch, how: FramePointer, offset: r.Depth + 8}}
			if g.Callback {
				d.role = roleCallback
			}
			b.row(r.Addr, d)
			continue
		}
		d := &draft{Rule: Rule{cfa: cfaRegister, register: RSP, offset: r.Depth + 8, ra: -8, how: GoTables}}
		if r.Depth >= 8 {
			d.saves = []draftSave{{save: save{RBP, saveAt, -16}}}
		}
		b.row(r.Addr, d)
	}
}

// maxSearched bounds the code that is searched for trampolines. A program with
// more brings its C library's tables, which describe them.
const maxSearched = 16 << 20

// The instructions that return from a signal handler: mov $15, %rax; syscall.
// The kernel has the handler return to them. The C library describes them in
// its tables, other libraries and Go do not.
var sigreturn = [][]byte{
	{0x48, 0xc7, 0xc0, 0x0f, 0x00, 0x00, 0x00, 0x0f, 0x05},
	{0xb8, 0x0f, 0x00, 0x00, 0x00, 0x0f, 0x05},
}

// beginnings finds the functions that the C library's start files put around
// what runs before and after a program (_init, _fini). They have no tables,
// are all of a section, and do nothing to the stack but this at their ends:
// sub $8, %rsp; add $8, %rsp; ret.
func beginnings(code []Section) []function {
	const most = 64
	var (
		mark  = []byte{0xf3, 0x0f, 0x1e, 0xfa} // where an indirect branch may land
		begin = []byte{0x48, 0x83, 0xec, 0x08}
		end   = []byte{0x48, 0x83, 0xc4, 0x08, 0xc3}
	)
	var out []function
	for _, s := range code {
		body := bytes.TrimPrefix(s.Bytes, mark)
		if len(s.Bytes) > most || !bytes.HasPrefix(body, begin) || !bytes.HasSuffix(body, end) {
			continue
		}
		first := s.Addr + uint64(len(s.Bytes)-len(body)+len(begin))
		last := s.Addr + uint64(len(s.Bytes)) - 1
		for _, f := range []struct {
			from, to uint64
			depth    int32
		}{{s.Addr, first, 8}, {first, last, 16}, {last, last + 1, 8}} {
			out = append(out, function{start: f.from, end: f.to, rank: 2,
				fixed: &draft{Rule: Rule{cfa: cfaRegister, register: RSP, offset: f.depth, ra: -8, how: Tables}}})
		}
	}
	return out
}

// trampolines finds them. The stretch begins one byte early, because a
// caller's address is taken to be one byte before where it returns to.
func trampolines(code []Section) []function {
	var out []function
	size := 0
	for _, s := range code {
		size += len(s.Bytes)
	}
	if size > maxSearched {
		return nil
	}
	for _, s := range code {
		for _, pattern := range sigreturn {
			for at := 0; ; {
				i := bytes.Index(s.Bytes[at:], pattern)
				if i < 0 {
					break
				}
				at += i
				start := s.Addr + uint64(at)
				out = append(out, function{
					start: start - 1, end: start + uint64(len(pattern)), rank: 2,
					fixed: &draft{Rule: Rule{cfa: cfaSignal, how: Signal, signal: true}},
				})
				at += len(pattern)
			}
		}
	}
	return out
}
