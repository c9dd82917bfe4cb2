package symbol

import (
	"debug/elf"
	"errors"
	"fmt"

	"golang.org/x/arch/x86/x86asm"

	"entelon/symbol/instructions"
)

// SpanPoints are the instructions of a function at which each of its calls passes once: one when it
// begins, and one of the others when it ends. At all of them the stack pointer is the same, at the
// return address.
type SpanPoints struct {
	Begin uint64   // in the file
	Ends  []uint64 // in the file, in order: its returns, and where it jumps to another function instead
	// JumpsAway: it may also end by a jump to a place that does not stand in the jump, or on a
	// condition, which is none of Ends.
	JumpsAway bool
	Go        bool // it is a function of Go
}

// Errors about functions whose ends cannot be found.
var (
	ErrNoEnds      = errors.New("its code has no return that could be found")
	ErrNotX86      = errors.New("its code is not for x86-64")
	ErrLoops       = errors.New("it begins with a loop, whose turns look like calls")
	errUnknownSize = errors.New("its size is not known")
)

// SpanPointsOf finds them by going through the function's code.
func SpanPointsOf(o *Object, d Defined) (p SpanPoints, err error) {
	if o.file.Machine != elf.EM_X86_64 {
		return p, fmt.Errorf("%s: %w", d.Name, ErrNotX86)
	}
	p.Begin = d.Offset
	var parts []codePart
	parts, p.Go = partsOf(o, d)
	if len(parts) == 0 {
		return p, fmt.Errorf("%s: %w", d.Name, errUnknownSize)
	}
	within := func(addr uint64) bool {
		for _, x := range parts {
			if addr >= x.from && addr < x.to {
				return true
			}
		}
		return false
	}
	for _, x := range parts {
		if err := p.addEnds(o, x, within); err != nil {
			return p, fmt.Errorf("%s: %w", d.Name, err)
		}
	}
	if len(p.Ends) == 0 {
		return p, fmt.Errorf("%s: %w", d.Name, ErrNoEnds)
	}
	if code := o.Instructions(); code != nil && !p.Go {
		p.JumpsAway = p.JumpsAway || code.JumpsAway(d.Address)
	}
	return p, nil
}

// codePart is a stretch of a function's code, by addresses.
type codePart struct{ from, to uint64 }

// partsOf are the stretches of a function: its own, and what the compiler moved away from it since it
// is seldom run.
func partsOf(o *Object, d Defined) (parts []codePart, golang bool) {
	o.Prepare()
	o.once.Do(o.load)
	if o.goTable != nil {
		for i := range o.goTable.n {
			if from := o.goTable.text + uint64(o.goTable.order.Uint32(o.goTable.funcs[8*i:])); from == d.Address {
				return []codePart{{from, o.goTable.text + uint64(o.goTable.order.Uint32(o.goTable.funcs[8*i+8:]))}}, true
			}
		}
	}
	for _, s := range o.symbols {
		if s.Addr == d.Address || s.Text() == d.Linkage+coldSuffix {
			parts = append(parts, codePart{s.Addr, s.End})
		}
	}
	return parts, false
}

// addEnds adds where a stretch leaves the function.
func (p *SpanPoints) addEnds(o *Object, x codePart, within func(uint64) bool) error {
	offset, ok := o.fileOffset(x.from)
	if !ok || x.to < x.from || x.to-x.from > uint64(len(o.image.Bytes))-offset {
		return errors.New("it is not all in the file")
	}
	b := o.image.Bytes[offset:][:x.to-x.from]
	for at := 0; at < len(b); {
		in, n := instructions.Decode(b[at:])
		if n == 0 {
			return fmt.Errorf("an instruction at 0x%x is not known, so its returns may be missed", x.from+uint64(at))
		}
		next := x.from + uint64(at+n)
		leaves := in.Op == x86asm.RET
		if by, direct := in.Args[0].(x86asm.Rel); direct && in.Op != x86asm.CALL {
			to := next + uint64(int64(by))
			at, _ := o.fileOffset(to)
			switch outside := !within(to); {
			case at == p.Begin:
				return ErrLoops
			case outside && in.Op == x86asm.JMP:
				leaves = true
			case outside: // on a condition: it is passed where it does not hold, too
				p.JumpsAway = true
			}
		}
		if leaves {
			p.Ends = append(p.Ends, offset+uint64(at))
		}
		at += n
	}
	return nil
}
