package symbol

import (
	"bytes"
	"debug/buildinfo"
	"go/version"

	"golang.org/x/arch/x86/x86asm"
)

// GoRuntime says where a Go program keeps what belongs to the thread that
// runs. The places differ between versions of Go, and no table tells them; but
// the runtime's own function that changes to the system stack reads all of
// them, in the same order in every version, so they are read off its
// instructions.
type GoRuntime struct {
	TLS     int32  // where the running goroutine (g) is, relative to the thread pointer
	M       uint32 // where a g has its thread (m)
	Current uint32 // where an m has the goroutine that it runs for (curg)
	Sched   uint32 // where a g has the place at which its stack was left (sched)
	Labels  uint32 // where a g has its labels; 0 where the program gives none
	// ClockPC and ClockSP are where an m has the place at which it went to the
	// system's stack to ask the kernel's own object for the time (vdsoPC, vdsoSP); 0
	// where that is not known.
	ClockPC, ClockSP uint32
	Cgo              bool // C code may call Go code
}

// labelsAsList is the first version of Go in which a set of labels is a list of
// names and values, in the order of the names. It was a map before.
const labelsAsList = "go1.24"

// GoRuntimeOf returns the places; ok is false where they cannot be told.
func GoRuntimeOf(o *Object) (r GoRuntime, ok bool) {
	var code, clock []byte
	o.GoFrames(func(f GoFunction) {
		switch f.Name {
		case "runtime/pprof.runtime_setProfLabel":
			if info, err := buildinfo.Read(bytes.NewReader(o.image.Bytes)); err == nil && version.Compare(info.GoVersion, labelsAsList) >= 0 {
				r.Labels = labelsPlace(codeAt(o, f.Start, f.End))
			}
		case "runtime.systemstack":
			code = codeAt(o, f.Start, f.End)
		case "runtime.nanotime1":
			clock = codeAt(o, f.Start, f.End)
		case "runtime/cgo.init", "crosscall2":
			r.Cgo = true
		}
	})
	if code == nil || !r.read(code) {
		return r, false
	}
	r.readClock(clock)
	return r, true
}

func codeAt(o *Object, start, end uint64) []byte {
	for _, s := range o.file.Sections {
		if start >= s.Addr && end <= s.Addr+s.Size && end-start < 1<<12 {
			if b, err := o.image.Content(s); err == nil && end-s.Addr <= uint64(len(b)) {
				return b[start-s.Addr : end-s.Addr]
			}
		}
	}
	return nil
}

// read follows runtime.systemstack: g from the thread's own storage; its m; a
// comparison of g with m.gsignal, with m.g0 (at 0) and with m.curg; then the
// stack pointer from g0.sched.
func (r *GoRuntime) read(code []byte) bool {
	var g, m x86asm.Reg
	held := map[x86asm.Reg]int64{0: 0} // constants in registers; no base counts as 0
	seen := 0                          // fields of m that were compared or read
	for at := 0; at < len(code); {
		in, err := x86asm.Decode(code[at:], 64)
		if err != nil {
			return false
		}
		at += in.Len
		to, toReg := in.Args[0].(x86asm.Reg)
		if c, constant := in.Args[1].(x86asm.Imm); constant && toReg && in.Op == x86asm.MOV {
			held[to] = int64(c) // in position-independent programs, where g is
		}
		from, fromMem := in.Args[1].(x86asm.Mem)
		if !toReg || !fromMem {
			continue
		}
		switch {
		case g == 0 && in.Op == x86asm.MOV && from.Segment == x86asm.FS:
			base, known := held[from.Base]
			if !known {
				return false
			}
			g, r.TLS = to, int32(base+from.Disp)
		case g != 0 && m == 0 && in.Op == x86asm.MOV && from.Base == g:
			m, r.M = to, uint32(from.Disp)
		case m != 0 && from.Base == m && seen < 3:
			if seen++; seen == 3 {
				r.Current = uint32(from.Disp)
			}
		case seen == 3 && in.Op == x86asm.MOV && to == x86asm.RSP && from.Segment != x86asm.FS:
			r.Sched = uint32(from.Disp)
			return r.M < 1<<12 && r.Current < 1<<12 && r.Sched < 1<<12
		}
	}
	return false
}

// labelsPlace finds where runtime.setProfLabel puts its argument: the only place
// of the goroutine that it writes to. 0 where there is none.
func labelsPlace(code []byte) uint32 {
	const firstFree = 64 // before are the bounds of the stack, and what systemstack reads
	for at := 0; at < len(code); {
		in, err := x86asm.Decode(code[at:], 64)
		if err != nil {
			return 0
		}
		at += in.Len
		to, memory := in.Args[0].(x86asm.Mem)
		if memory && in.Op == x86asm.MOV && in.Args[1] == x86asm.RAX && to.Base != x86asm.RSP && to.Disp >= firstFree && to.Disp < 1<<12 {
			return uint32(to.Disp)
		}
	}
	return 0
}

// readClock follows runtime.nanotime1 to what it writes into m: first where it was
// called, then the stack pointer there.
func (r *GoRuntime) readClock(code []byte) {
	var m x86asm.Reg
	var written []uint32
	for at := 0; at < len(code) && len(written) < 2; {
		in, err := x86asm.Decode(code[at:], 64)
		if err != nil {
			return
		}
		at += in.Len
		if in.Op != x86asm.MOV {
			continue
		}
		to, toReg := in.Args[0].(x86asm.Reg)
		if from, memory := in.Args[1].(x86asm.Mem); memory && toReg && m == 0 && uint32(from.Disp) == r.M && from.Base == x86asm.R14 {
			m = to
		}
		if to, memory := in.Args[0].(x86asm.Mem); memory && m != 0 && to.Base == m && to.Disp > 0 && to.Disp < 1<<12 {
			written = append(written, uint32(to.Disp))
		}
	}
	if len(written) == 2 {
		r.ClockPC, r.ClockSP = written[0], written[1]
	}
}
