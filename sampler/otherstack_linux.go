package sampler

import (
	"encoding/binary"

	"entelon/unwind"
)

// The kernel copies the stack from the stack pointer on. A thread may have
// left another stack behind: a signal handler runs on a stack of its own, and
// the Go runtime changes between goroutines' stacks and the system's. What is
// on those can only be read at the very moment of the sample, by a program
// that the kernel runs then. It looks where the other stack was left, copies
// from there on, and writes that as a record into the same ring, right before
// the sample. Where it may not be loaded, such stacks are cut off.

// otherBytes is how much of a stack is copied into one record, and
// moreRecords how many follow what the kernel copied of a stack that is
// deeper than that.
const (
	otherBytes  = 16 << 10
	moreRecords = 3
)

// The record that the program writes: these words, then the copied bytes.
const (
	otherAddr   = 8 * iota // where the copied bytes are
	otherLength            // how many there are
	otherKind              // what the rest means
	otherLow               // of a Go program, as in unwind.GoStacks
	otherHigh
	otherSP
	otherPC
	otherBP
	otherSystemSP
	otherHeader
)

const (
	kindStack   = 1
	kindGoStack = 2
	kindPython  = 3 // frames of CPython, see pythonprogram_linux.go
	kindCode    = 4 // a code object of CPython
	kindLabels  = 5 // labels of a goroutine, see golabels_linux.go
)

// otherDelay is the longest time in nanoseconds between a sample and the copy
// of another stack that belongs to it; both are made by one interrupt.
const otherDelay = 1_000_000

// pairing hands the records of the program on with the sample that they
// belong to: the next one of the same thread in the same ring. Which of the
// two has the earlier time depends on the kernel's version.
type pairing map[uint32][]record

func (p pairing) visit(r record, next func(record)) {
	switch r.kind {
	case recOther:
		p[r.tid] = append(p[r.tid], r)
		return
	case recSample:
		if waiting, ok := p[r.tid]; ok {
			delete(p, r.tid)
			for _, o := range waiting {
				if max(o.time, r.time)-min(o.time, r.time) < otherDelay { // else its own sample was lost
					r.others = append(r.others, o.body)
				}
			}
		}
	}
	next(r)
}

// beforeOther is what is before the words of a record: identifier, pid and
// tid, time, the length of the rest.
const beforeOther = 8 + 8 + 8 + 4

// otherKindOf returns a record's kind, 0 where it is too short for one.
func otherKindOf(b []byte) uint64 {
	if len(b) < beforeOther+otherHeader {
		return 0
	}
	return binary.NativeEndian.Uint64(b[beforeOther+otherKind:])
}

// decodeOther reads a record of a copied stack. A broken one is passed over:
// the stack is then cut off, as it would be without it.
func decodeOther(b []byte, windows unwind.Memory, goes *unwind.GoStacks) unwind.Memory {
	ne := binary.NativeEndian
	if len(b) < beforeOther+otherHeader {
		return windows
	}
	b = b[beforeOther:]
	word := func(at int) uint64 { return ne.Uint64(b[at:]) }
	n := word(otherLength)
	if n > uint64(len(b)-otherHeader) {
		return windows
	}
	if word(otherKind) == kindGoStack {
		*goes = unwind.GoStacks{
			Known: true, Low: word(otherLow), High: word(otherHigh),
			SP: word(otherSP), PC: word(otherPC), BP: word(otherBP), SystemSP: word(otherSystemSP),
		}
	}
	if n == 0 {
		return windows
	}
	return append(windows, unwind.Window{Start: word(otherAddr), Bytes: b[otherHeader : otherHeader+n]})
}
