package unwind

import "entelon/symbol/instructions"

// Instructed is a Code that also has the machine code itself, in the module's own address
// space: nil where it has not.
type Instructed interface {
	Instructions(addr uint64) (c *instructions.Code, bias uint64)
}

// atEntry reports whether the walk is where the program of a file begins, in code without
// tables: what is on the stack there leads nowhere.
func (w *walker) atEntry() bool {
	from, ok := w.code.(Instructed)
	if !ok {
		return false
	}
	pc := w.regs.Value[PC]
	code, bias := from.Instructions(pc)
	return code != nil && code.AtEntry(pc-bias)
}

// byInstructions finds the caller of code without tables by what its instructions do to the
// stack. That is taken for true only where a call stands before the return address that it
// leads to: a direct one of this very function, or of one that jumps there or nobody knows where, or
// one of which that is not known itself.
func (w *walker) byInstructions() bool {
	from, ok := w.code.(Instructed)
	if !ok {
		return false
	}
	pc := w.regs.Value[PC]
	code, bias := from.Instructions(pc)
	if code == nil {
		return false
	}
	var at, ra uint64
	f, ok := code.At(pc-bias, func(f instructions.Frame) bool {
		base, known := w.regs.Get(uint8(f.Base))
		if !known && w.out[len(w.out)-1].How == Instructions {
			// Functions that are written together leave each other's registers alone as they
			// please. Whether this one was is seen by where it leads.
			base, known = w.regs.Value[f.Base], true
		}
		at = base + uint64(f.Return)
		var there bool
		ra, there = w.s.Memory.Word(at)
		return known && there && w.cache.look(w.code, ra-1).mapped && called(from, code, bias, ra, pc, f)
	})
	if !ok {
		return false
	}
	next := w.regs
	next.Known &= afterCall
	for _, s := range f.Saved {
		if v, ok := w.s.Memory.Word(at - uint64(s.Below)); ok {
			next.Set(s.Register, v)
		} else {
			next.Known &^= 1 << s.Register
		}
	}
	next.Set(PC, ra)
	next.Set(RSP, at+8)
	w.regs = next
	return true
}

// called confirms a frame by the call before its return address.
func called(from Instructed, code *instructions.Code, bias, ra, pc uint64, f instructions.Frame) bool {
	caller, there := from.Instructions(ra - 1)
	if caller == nil {
		return false
	}
	to, direct, ok := caller.CallBefore(ra - there)
	switch {
	case !ok:
		return false
	case !direct || caller != code || to+there == f.Start+bias:
		return true // of another module it goes by a table of addresses
	}
	for _, g := range code.From(to, pc-bias) {
		if g.Return == f.Return && g.Base == f.Base {
			return true // it jumps here from there
		}
	}
	return code.JumpsAway(to)
}
