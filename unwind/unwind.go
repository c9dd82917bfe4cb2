// Package unwind walks call stacks that were copied at the moment of a
// sample: from the registers and the bytes above the stack pointer to the
// list of return addresses.
//
// The way of one sample: the innermost address comes from the registers. For
// each address, Code tells which module is mapped there; that module's Table
// tells how the caller's registers are found from the present ones (Rule); the
// walker applies the rule (walk.go). Tables are compiled once for each module,
// from the call-frame information that compilers write for exceptions and
// debuggers (frameinfo.go, cfaprogram.go) or from the tables of the Go linker
// (gostack.go). Where a module has neither, the frame pointer is followed.
//
// The call-frame information is that of the DWARF standard, version 5,
// section 6.4, in the two forms of the Linux Standard Base: .debug_frame and
// .eh_frame. Register numbers are those of the System V ABI for x86-64.
//
// A Table is not changed after it was compiled; many goroutines may use one. A Cache belongs
// to one process's resolver.
package unwind

import "fmt"

// Register numbers of x86-64 (System V ABI, figure 3.36).
const (
	RAX = iota
	RDX
	RCX
	RBX
	RSI
	RDI
	RBP
	RSP
	R8
	R9
	R10
	R11
	R12
	R13
	R14
	R15
	PC // the return address column; here the program counter
	registerCount
)

// Registers are a thread's registers at one frame. Bits of Known tell which
// of them still hold what they held in that frame.
type Registers struct {
	Value [registerCount]uint64
	Known uint32
}

// afterCall are the registers that a function must hand back unchanged; the
// others are lost to the caller's frame unless a rule restores them.
const afterCall = 1<<RBX | 1<<RBP | 1<<RSP | 1<<R12 | 1<<R13 | 1<<R14 | 1<<R15 | 1<<PC

// Set makes a register known.
func (r *Registers) Set(n int, v uint64) {
	r.Value[n] = v
	r.Known |= 1 << n
}

// Get returns a register; ok is false where its value was lost.
func (r *Registers) Get(n uint8) (v uint64, ok bool) {
	if n >= registerCount || r.Known&(1<<n) == 0 {
		return 0, false
	}
	return r.Value[n], true
}

// How says how the walk got to a frame.
type How uint8

// The ways to a frame. The order is part of the take file format.
const (
	Unstated     How = iota
	Counter          // the program counter at the moment of the sample
	Tables           // by call-frame tables of the function that it called
	FramePointer     // by the frame pointer
	GoTables         // by the Go linker's stack tables of the function that it called
	KernelWalk       // by the kernel's own walk along frame pointers, beyond the copied stack
	Signal           // interrupted by a signal, from the registers that the kernel saved
	TopOfStack       // by the word at the stack pointer, as the rest of the walk confirmed
	Instructions     // by what the function's own instructions did to the stack, as a call before the return address confirmed
)

var howNames = [...]string{"unstated", "counter", "tables", "frame-pointer", "go-tables", "kernel-walk", "signal", "top-of-stack", "instructions"}

func (h How) String() string {
	if int(h) < len(howNames) {
		return howNames[h]
	}
	return fmt.Sprintf("how %d", uint8(h))
}

// End says why a walk ended.
type End uint8

// The ends. All but Entry leave a stack whose outer part is unknown.
const (
	Entry      End = iota // at the program's entry or a thread's start
	Deeper                // the stack is deeper than what was copied of it
	OtherStack            // the caller is on another stack, which was not copied
	NoTable               // code without call-frame information or frame pointer
	NoCode                // an address that is no code
	NoMemory              // the stack could not be read at all
	Circle                // the stack does not get shorter: damaged tables or a damaged stack
	TooMany               // more frames than MaxFrames
	Torn                  // an interpreter's frames contradict each other; found by who reads them
	EndCount
)

var endNames = [...]string{"entry", "deeper", "other-stack", "no-table", "no-code", "no-memory", "circle", "too-many", "torn"}

func (e End) String() string {
	if int(e) < len(endNames) {
		return endNames[e]
	}
	return fmt.Sprintf("end %d", uint8(e))
}

// MaxFrames bounds a stack.
const MaxFrames = 20_000

// Step is one address of a stack: where the code is that was executing. For a
// caller that is one byte before the return address, inside its call.
type Step struct {
	Address uint64
	How     How
}

// Window is a stretch of the program's memory as it was when the sample was taken.
type Window struct {
	Start uint64
	Bytes []byte
}

// Memory is what was copied of the program's memory; its windows may not overlap.
type Memory []Window

// Word reads eight bytes, little-endian.
func (m Memory) Word(addr uint64) (v uint64, ok bool) {
	for i := range m {
		w := &m[i]
		if at := addr - w.Start; addr >= w.Start && at+8 <= uint64(len(w.Bytes)) && at+8 > at {
			b := w.Bytes[at : at+8 : at+8]
			return uint64(b[0]) | uint64(b[1])<<8 | uint64(b[2])<<16 | uint64(b[3])<<24 |
				uint64(b[4])<<32 | uint64(b[5])<<40 | uint64(b[6])<<48 | uint64(b[7])<<56, true
		}
	}
	return 0, false
}
