// Package instructions finds the caller of a function that has no call-frame tables, by
// what the function's own instructions do to the stack on the way to where it is: what it
// pushes, and by how much it moves the stack pointer. It is for code for x86-64 that was
// written by hand or built without tables.
//
// A Code is swept once, for where its functions may begin: the targets of calls, and places
// behind a function's end and its padding. An Analysis follows all ways from the nearest of
// these to the instruction, which may come there with several depths. What it says is still to
// be confirmed by who asks: before the return
// address must stand a call, and a direct one must be of that very function.
//
// Many goroutines may use a Code: it is swept once, and a lock guards what was found since.
package instructions

import (
	"encoding/binary"
	"slices"
	"sort"
	"sync"

	"golang.org/x/arch/x86/x86asm"
)

// Code is a stretch of machine code.
type Code struct {
	base           uint64
	bytes          []byte
	known, pointed func() []uint64
	// Entry is where the file's program begins, 0 where it does not: nothing called that.
	Entry uint64

	once   sync.Once
	starts []uint64 // where functions begin, in order: what is called, or known
	likely []uint64 // where they may begin, too

	mu    sync.Mutex
	found map[uint64]analysis // by instruction

	muLeft sync.Mutex         // another one: who accepts a frame asks for this
	left   map[uint64]leaving // by function
}

// MaxBytes bounds what is swept: about a second's work.
const MaxBytes = 32 << 20

// maxFound bounds what is remembered.
const maxFound = 1 << 16

// New is code that lies at an address. known tells where functions are known to begin, and
// pointed what pointers point to, which may be functions; both may be nil, and are asked when
// the code is swept, which the first analysis does.
func New(base uint64, code []byte, known, pointed func() []uint64) *Code {
	return &Code{base: base, bytes: code, known: known, pointed: pointed, found: map[uint64]analysis{}, left: map[uint64]leaving{}}
}

func (c *Code) sweep() {
	base, code := c.base, c.bytes
	if len(code) > MaxBytes {
		return
	}
	var all, likely []uint64
	if c.known != nil {
		all = append(all, c.known()...)
	}
	if c.pointed != nil {
		likely = append(likely, c.pointed()...)
	}
	boundary := true // the instruction before ended a function, or there was none
	for at := 0; at < len(code); {
		in, n := Decode(code[at:])
		if n == 0 {
			at, boundary = at+1, true
			continue
		}
		address := base + uint64(at)
		padding := in.Op == x86asm.NOP || in.Op == x86asm.INT
		// Code that was built to be small is not aligned, but its functions mostly begin by
		// making room on the stack.
		if boundary && !padding && (address%16 == 0 || opensFrame(&in)) {
			likely = append(likely, address)
		}
		if to, ok := pointsTo(&in, address, n); ok && to-base < uint64(len(code)) {
			likely = append(likely, to)
		}
		switch {
		case padding:
		case in.Op == x86asm.RET || in.Op == x86asm.JMP || in.Op == x86asm.UD2 || in.Op == x86asm.HLT:
			boundary = true
		default:
			boundary = false
		}
		if in.Op == x86asm.CALL {
			boundary = true // of a function that does not return
			if to, ok := target(&in, address, n); ok && to-base < uint64(len(code)) {
				all = append(all, to)
			}
		}
		at += n
	}
	slices.Sort(all)
	slices.Sort(likely)
	c.starts, c.likely = slices.Compact(all), slices.Compact(likely)
}

// opensFrame reports whether an instruction is as those with which functions begin that
// need room on the stack.
func opensFrame(in *x86asm.Inst) bool {
	reg, ok := in.Args[0].(x86asm.Reg)
	switch in.Op {
	case x86asm.PUSH:
		_, saved := number[reg]
		return ok && saved
	case x86asm.SUB:
		return ok && reg == x86asm.RSP
	}
	return false
}

// pointsTo is the address that an instruction makes of where it is itself, or has in it: it
// may be a function that is called through a pointer.
func pointsTo(in *x86asm.Inst, address uint64, n int) (uint64, bool) {
	switch in.Op {
	case x86asm.LEA:
		if m, ok := in.Args[1].(x86asm.Mem); ok && m.Base == x86asm.RIP && m.Index == 0 {
			return address + uint64(n) + uint64(m.Disp), true
		}
	case x86asm.MOV:
		if v, ok := in.Args[1].(x86asm.Imm); ok && v > 0 {
			return uint64(v), true
		}
	}
	return 0, false
}

// Frame is what the instructions of a function say of where it is.
type Frame struct {
	Start uint64 // where the function begins
	// Return is where its return address is, in bytes above a register, whose number in DWARF
	// is Base: RSP or, where that was aligned, RBP or one that it was copied to before.
	Return int64
	Base   int
	Saved  []Saved
}

// Saved is a register of the caller that the function has pushed.
type Saved struct {
	Register int   // its number in DWARF
	Below    int64 // where it is, in bytes below the return address
}

// farthest bounds how long a function is, maxStarts how many beginnings are tried, and
// maxFrames how many of them may lead to an instruction.
const (
	farthest  = 64 << 10
	maxStarts = 64
	maxFrames = 24
)

// At analyses the ways to an instruction, from the nearest beginnings of functions on, and
// returns the first frame that is accepted. ok is false where none is.
func (c *Code) At(pc uint64, accept func(Frame) bool) (f Frame, ok bool) {
	c.once.Do(c.sweep)
	c.mu.Lock()
	defer c.mu.Unlock()
	kept := c.found[pc]
	for _, f := range kept.frames {
		if accept(f) {
			return f, true
		}
	}
	if kept.all {
		return f, false
	}
	kept.frames = nil
	for _, starts := range [][]uint64{c.starts, c.likely} {
		i := sort.Search(len(starts), func(i int) bool { return starts[i] > pc })
		of := 0
		for tried := 0; i > 0 && tried < maxStarts && of < maxFrames; tried++ {
			i--
			if pc-starts[i] > farthest {
				break
			}
			reached := c.follow(starts[i], pc)
			if len(reached) > 0 {
				of++
			}
			kept.frames = append(kept.frames, reached...)
			for _, f := range reached {
				if accept(f) {
					c.keep(pc, kept)
					return f, true
				}
			}
		}
	}
	kept.all = true
	c.keep(pc, kept)
	return f, false
}

// keep remembers what was found. The lock is held.
func (c *Code) keep(pc uint64, a analysis) {
	if len(c.found) >= maxFound {
		clear(c.found)
	}
	c.found[pc] = a
}

// analysis is what was found of an instruction: all that there is, or up to a frame that
// was accepted.
type analysis struct {
	frames []Frame
	all    bool
}

// From analyses the ways to an instruction from one beginning, and returns what there may be.
func (c *Code) From(start, pc uint64) []Frame { return c.follow(start, pc) }

// entryBytes is about as long as what is written by hand for that.
const entryBytes = 64

// AtEntry reports whether an instruction is of where the file's program begins.
func (c *Code) AtEntry(pc uint64) bool { return c.Entry != 0 && pc-c.Entry < entryBytes }

// JumpsAway reports whether a function may end with a jump to a place that does not stand in
// the jump, as if it had been called there.
func (c *Code) JumpsAway(start uint64) bool { return c.leaves(start).away }

// JumpsAnywhere reports whether a function has a jump to a place that does not stand in the
// jump, with whatever it has on the stack.
func (c *Code) JumpsAnywhere(start uint64) bool { return c.leaves(start).anywhere }

// leaving is how a function may be left for a place that nobody knows.
type leaving struct{ away, anywhere bool }

func (c *Code) leaves(start uint64) (l leaving) {
	c.muLeft.Lock()
	defer c.muLeft.Unlock()
	if l, known := c.left[start]; known {
		return l
	}
	c.walk(start, func(in *x86asm.Inst, address uint64, n int, s *state) bool {
		if _, direct := target(in, address, n); in.Op == x86asm.JMP && !direct {
			l.anywhere = true
			l.away = l.away || s.known && s.depth == 0
		}
		return !l.away
	})
	if len(c.left) >= maxFound {
		clear(c.left)
	}
	c.left[start] = l
	return l
}

// Begins returns the beginning of a function that is nearest before an address.
func (c *Code) Begins(pc uint64) (start uint64, ok bool) {
	c.once.Do(c.sweep)
	i := sort.Search(len(c.starts), func(i int) bool { return c.starts[i] > pc })
	if i == 0 || pc-c.base >= uint64(len(c.bytes)) {
		return 0, false
	}
	return c.starts[i-1], true
}

// CallBefore reports whether a call stands right before an address, and of what, where that
// stands in the call itself.
func (c *Code) CallBefore(ra uint64) (to uint64, direct, ok bool) {
	at := ra - c.base
	if at > uint64(len(c.bytes)) {
		return 0, false, false
	}
	// The shortest calls have two bytes, the longest with a plain prefix eight.
	if at >= 5 && c.bytes[at-5] == 0xe8 {
		return ra + uint64(int64(int32(binary.LittleEndian.Uint32(c.bytes[at-4:at])))), true, true
	}
	for n := uint64(2); n <= 8 && n <= at; n++ {
		if in, size := Decode(c.bytes[at-n : at]); uint64(size) == n && in.Op == x86asm.CALL {
			return 0, false, true
		}
	}
	return 0, false, false
}

// Beginnings are where functions begin, as far as that is sure.
func (c *Code) Beginnings() []uint64 {
	c.once.Do(c.sweep)
	return c.starts
}

// Reached are the instructions that are reached from a beginning, each once.
func (c *Code) Reached(start uint64) (out []uint64) {
	seen := map[uint64]bool{}
	c.walk(start, func(_ *x86asm.Inst, address uint64, _ int, _ *state) bool {
		if !seen[address] {
			seen[address] = true
			out = append(out, address)
		}
		return true
	})
	return out
}
