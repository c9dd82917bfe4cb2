package python

import (
	"cmp"
	"encoding/binary"
	"slices"
)

// EntryBytes is the size of one entry of a record, in words of eight bytes:
// the frame's address, its code object, its instruction, the frame that
// called it, its flags, then three pointers out of the code object by which a
// later object at the same address is told apart, then of 3.11 only the
// record on the C stack that the frame belongs to, and the innermost frame
// that the next outer such record has.
const EntryBytes = 10 * 8

// Entry is one frame of the interpreter, as it was found in memory.
type Entry struct {
	Frame    uint64
	Code     Identity
	Instr    uint64
	Previous uint64
	flags    uint64
	cframe   uint64
	outer    uint64
}

// Identity tells code objects apart, also those that have one address one
// after the other.
type Identity struct{ Address, Filename, Qualname, LineTable uint64 }

// Decode reads the entries of a record's bytes; what is left of the last one
// that is not whole is passed over.
func Decode(b []byte, l *Layout, out []Entry) []Entry {
	for ; len(b) >= EntryBytes; b = b[EntryBytes:] {
		word := func(i int) uint64 { return binary.LittleEndian.Uint64(b[8*i:]) }
		out = append(out, Entry{
			Frame: word(0), Instr: word(2), Previous: word(3), flags: word(4),
			Code:   Identity{word(1) & l.Frame.CodeMask, word(5), word(6), word(7)},
			cframe: word(8), outer: word(9),
		})
	}
	return out
}

// Run are the frames of one entry of C code into the interpreter, the
// innermost first.
type Run struct {
	At     uint64 // an address within the C stack's part of the interpreter's machine frame
	Frames []Entry
}

// ownedByStack is the lowest owner of a frame that is not a function's but marks
// where C code entered (FRAME_OWNED_BY_CSTACK, in 3.14 FRAME_OWNED_BY_INTERPRETER).
const ownedByStack = 3

// Cut cuts the entries of one thread state into runs, the innermost first. ok
// is false where they contradict each other, as they do when the chain was
// being changed at that moment.
func Cut(entries []Entry, l *Layout, runs []Run) (out []Run, ok bool) {
	first := 0
	for i := range entries {
		e := &entries[i]
		if i+1 < len(entries) && e.Previous != entries[i+1].Frame {
			return runs, false
		}
		owner := byte(e.flags >> (8 * l.Frame.Owner))
		if !l.Frame.Marked {
			if owner < ownedByStack {
				if e.Code.Address == 0 {
					return runs, false
				}
				continue
			}
			if i > first {
				runs = append(runs, Run{e.Frame, entries[first:i]})
			}
			first = i + 1
			continue
		}
		if e.Code.Address == 0 || owner >= ownedByStack {
			return runs, false
		}
		if byte(e.flags>>(8*l.Frame.Entry)) == 0 {
			continue
		}
		if e.Previous != e.outer {
			return runs, false
		}
		runs = append(runs, Run{e.cframe, entries[first : i+1]})
		first = i + 1
	}
	n := len(entries)
	return runs, first == n && (n == 0 || entries[n-1].Previous == 0)
}

// SortRuns puts runs of several thread states into the order of the C stack,
// which grows downwards.
func SortRuns(runs []Run) {
	slices.SortStableFunc(runs, func(a, b Run) int { return cmp.Compare(a.At, b.At) })
}
