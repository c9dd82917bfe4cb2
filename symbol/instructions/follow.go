package instructions

import (
	"sort"

	"golang.org/x/arch/x86/x86asm"
)

// state is what is known of the stack before an instruction.
type state struct {
	depth   int64 // of the return address above the stack pointer
	known   bool  // depth is: the stack pointer was not aligned
	frame   int64 // of the return address above RBP
	pointer bool  // RBP is a frame pointer
	// Another register that the stack pointer was copied to, before it was aligned: copied is
	// its number and one more, 0 for none, and held how far the return address is above it.
	copied int
	held   int64
	saved  []Saved
}

// maxSteps bounds an analysis, in instructions.
const maxSteps = 6000

// follow looks what the stack is like at an instruction, on all ways from a beginning. These
// may come to differ behind calls that do not return, of which nobody knows that.
func (c *Code) follow(start, pc uint64) (out []Frame) {
	c.walk(start, func(_ *x86asm.Inst, address uint64, _ int, s *state) bool {
		if address != pc {
			return true
		}
		g := Frame{Start: start, Return: s.depth, Base: stackPointer, Saved: s.saved}
		switch {
		case s.known:
		case s.pointer:
			g.Return, g.Base = s.frame, number[x86asm.RBP]
		case s.copied != 0:
			g.Return, g.Base = s.held, s.copied-1
		default:
			return true
		}
		for _, f := range out {
			if g.Return == f.Return && g.Base == f.Base {
				return true
			}
		}
		out = append(out, g)
		return true
	})
	return out
}

// walk visits the instructions that are reached from a beginning, each once for every depth
// that the stack may have there, of which two are followed. visit returns false to end it.
func (c *Code) walk(start uint64, visit func(in *x86asm.Inst, address uint64, n int, s *state) bool) {
	type way struct {
		at uint64
		s  state
	}
	ways := []way{{start, state{known: true}}}
	seen := map[uint64][]state{}
	var table *state // at a jump by a table of addresses, which is within the function
	for steps := 0; len(ways) > 0 || table != nil; {
		if len(ways) == 0 {
			for _, at := range c.behindBreaks(start, seen) {
				ways = append(ways, way{at, table.clone()})
			}
			table = nil
			continue
		}
		w := ways[len(ways)-1]
		ways = ways[:len(ways)-1]
		for at, s := w.at, w.s; ; {
			if steps++; steps > maxSteps {
				return
			}
			before := seen[at]
			const followed = 2
			if len(before) >= followed || len(before) > 0 && before[0].depth == s.depth && before[0].known == s.known {
				break
			}
			i := at - c.base
			if i >= uint64(len(c.bytes)) {
				break
			}
			in, n := Decode(c.bytes[i:])
			if n == 0 {
				break
			}
			if !visit(&in, at, n, &s) {
				return
			}
			seen[at] = append(before, s)
			to, direct := target(&in, at, n)
			if in.Op == x86asm.RET || in.Op == x86asm.UD2 || in.Op == x86asm.HLT {
				break
			}
			if in.Op == x86asm.JMP {
				if !direct {
					if s.depth > 0 && table == nil {
						x := s.clone()
						table = &x
					}
					break
				}
				at = to
				continue
			}
			if direct && in.Op != x86asm.CALL {
				ways = append(ways, way{to, s.clone()})
			}
			if !s.apply(&in) {
				break
			}
			at += uint64(n)
		}
	}
}

// behindBreaks are the places behind a function's jumps and returns that no way has come to:
// where a table of addresses leads. A function ends where the next one is known to begin.
func (c *Code) behindBreaks(start uint64, seen map[uint64][]state) (out []uint64) {
	end := start + farthest
	if i := sort.Search(len(c.starts), func(i int) bool { return c.starts[i] > start }); i < len(c.starts) {
		end = min(end, c.starts[i])
	}
	behind := false
	for at := start; at < end && at-c.base < uint64(len(c.bytes)); {
		in, n := Decode(c.bytes[at-c.base:])
		if n == 0 {
			at++
			continue
		}
		if _, met := seen[at]; behind && !met && in.Op != x86asm.NOP && in.Op != x86asm.INT {
			out = append(out, at)
		}
		behind = in.Op == x86asm.JMP || in.Op == x86asm.RET || behind && in.Op == x86asm.NOP
		at += uint64(n)
	}
	return out
}

func (s state) clone() state {
	s.saved = append([]Saved(nil), s.saved...)
	return s
}

// stackPointer is its number in DWARF.
const stackPointer = 7

// every has the numbers in DWARF of all registers that may hold an address, in whichever
// part of them an instruction writes.
var every = func() map[x86asm.Reg]int {
	out := map[x86asm.Reg]int{}
	for n, names := range [][]x86asm.Reg{
		{x86asm.RAX, x86asm.EAX, x86asm.AX, x86asm.AL, x86asm.AH}, {x86asm.RDX, x86asm.EDX, x86asm.DX, x86asm.DL, x86asm.DH},
		{x86asm.RCX, x86asm.ECX, x86asm.CX, x86asm.CL, x86asm.CH}, {x86asm.RBX, x86asm.EBX, x86asm.BX, x86asm.BL, x86asm.BH},
		{x86asm.RSI, x86asm.ESI, x86asm.SI, x86asm.SIB}, {x86asm.RDI, x86asm.EDI, x86asm.DI, x86asm.DIB},
		{x86asm.RBP, x86asm.EBP, x86asm.BP, x86asm.BPB}, {x86asm.RSP, x86asm.ESP, x86asm.SP, x86asm.SPB},
	} {
		for _, r := range names {
			out[r] = n
		}
	}
	for i := range 8 {
		for _, first := range []x86asm.Reg{x86asm.R8, x86asm.R8L, x86asm.R8W, x86asm.R8B} {
			out[first+x86asm.Reg(i)] = 8 + i
		}
	}
	return out
}()

// number is a register's number in DWARF.
var number = map[x86asm.Reg]int{x86asm.RBX: 3, x86asm.RBP: 6, x86asm.R12: 12, x86asm.R13: 13, x86asm.R14: 14, x86asm.R15: 15}

// apply changes the state by what an instruction does; false where that is not known.
func (s *state) apply(in *x86asm.Inst) bool {
	const word = 8
	reg, isReg := in.Args[0].(x86asm.Reg)
	if n, is := every[reg]; isReg && is && writes(in.Op) && n != stackPointer {
		from, _ := in.Args[1].(x86asm.Reg)
		switch {
		case in.Op == x86asm.MOV && from == x86asm.RSP && s.known && reg != x86asm.RBP:
			s.copied, s.held = n+1, s.depth
		case s.copied == n+1:
			s.copied = 0
		}
	}
	switch in.Op {
	case x86asm.PUSH:
		s.depth += word
		if n, is := number[reg]; isReg && is && s.known && !s.has(n) {
			s.saved = append(s.saved, Saved{n, s.depth})
		}
	case x86asm.POP:
		s.depth -= word
		if n, is := number[reg]; isReg && is {
			s.drop(n)
			if reg == x86asm.RBP {
				s.pointer = false
			}
		}
		if reg == x86asm.RSP {
			s.known = false
		}
	case x86asm.PUSHFQ:
		s.depth += word
	case x86asm.POPFQ:
		s.depth -= word
	case x86asm.LEAVE:
		if !s.pointer {
			return false
		}
		s.depth, s.known, s.pointer = s.frame-word, true, false
		s.drop(number[x86asm.RBP])
	case x86asm.ENTER:
		return false
	default:
		if isReg && reg == x86asm.RSP {
			return s.movesStack(in)
		}
		if isReg && reg == x86asm.RBP && writes(in.Op) {
			if from, is := in.Args[1].(x86asm.Reg); in.Op == x86asm.MOV && is && from == x86asm.RSP && s.known {
				s.frame, s.pointer = s.depth, true
			} else if m, is := in.Args[1].(x86asm.Mem); in.Op == x86asm.LEA && is && m.Base == x86asm.RSP && m.Index == 0 && s.known {
				s.frame, s.pointer = s.depth-m.Disp, true
			} else {
				s.pointer = false
			}
		}
	}
	return s.depth >= 0
}

// movesStack applies an instruction that writes the stack pointer.
func (s *state) movesStack(in *x86asm.Inst) bool {
	switch in.Op {
	case x86asm.SUB, x86asm.ADD:
		by, ok := in.Args[1].(x86asm.Imm)
		if !ok {
			s.known = false // a stack as long as a number says
			return s.pointer
		}
		if in.Op == x86asm.ADD {
			by = -by
		}
		s.depth += int64(by)
		return s.depth >= 0
	case x86asm.LEA:
		m, ok := in.Args[1].(x86asm.Mem)
		switch {
		case ok && m.Base == x86asm.RSP && m.Index == 0:
			s.depth -= m.Disp
			return s.depth >= 0
		case ok && m.Base == x86asm.RBP && m.Index == 0 && s.pointer:
			s.depth, s.known = s.frame-m.Disp, true
			return s.depth >= 0
		}
		return false
	case x86asm.MOV:
		from, _ := in.Args[1].(x86asm.Reg)
		switch n, is := every[from]; {
		case from == x86asm.RBP && s.pointer:
			s.depth, s.known = s.frame, true
			return true
		case is && s.copied == n+1:
			s.depth, s.known = s.held, true
			return true
		}
		return false
	case x86asm.AND:
		s.known = false // aligned
		return true
	case x86asm.CMP, x86asm.TEST:
		return true
	}
	return false
}

func (s *state) has(n int) bool {
	for _, x := range s.saved {
		if x.Register == n {
			return true
		}
	}
	return false
}

func (s *state) drop(n int) {
	for i, x := range s.saved {
		if x.Register == n {
			s.saved = append(s.saved[:i:i], s.saved[i+1:]...)
			return
		}
	}
}

// writes reports whether an instruction changes its first argument.
func writes(op x86asm.Op) bool {
	switch op {
	case x86asm.CMP, x86asm.TEST, x86asm.BT, x86asm.PUSH, x86asm.CALL, x86asm.NOP, x86asm.JMP:
		return false
	}
	return true
}

// target is where a direct jump or call leads.
func target(in *x86asm.Inst, address uint64, n int) (uint64, bool) {
	rel, ok := in.Args[0].(x86asm.Rel)
	if !ok {
		return 0, false
	}
	return address + uint64(n) + uint64(int64(rel)), true
}
