package bpf

import (
	"encoding/binary"

	"entelon/linux/perf"
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
	OtherAddr   = 8 * iota // where the copied bytes are
	OtherLength            // how many there are
	OtherKind              // what the rest means
	OtherLow               // of a Go program, as in unwind.GoStacks
	OtherHigh
	OtherSP
	OtherPC
	OtherBP
	OtherSystemSP
	OtherHeader
)

const (
	KindStack   = 1
	KindGoStack = 2
	KindPython  = 3 // frames of CPython, see pythonprogram_linux.go
	KindCode    = 4 // a code object of CPython
	KindLabels  = 5 // labels of a goroutine, see golabels_linux.go
)

// OtherDelay is the longest time in nanoseconds between a sample and the copy
// of another stack that belongs to it; both are made by one interrupt.
const OtherDelay = 1_000_000

// Pairing hands the records of the program on with the sample that they
// belong to: the next one of the same thread in the same ring. Which of the
// two has the earlier time depends on the kernel's version.
type Pairing map[uint32][]perf.Record

// Visit hands a record on, a sample with what belongs to it.
func (p Pairing) Visit(r perf.Record, next func(perf.Record)) {
	switch r.Kind {
	case perf.RecordOther:
		p[r.TID] = append(p[r.TID], r)
		return
	case perf.RecordSample:
		if waiting, ok := p[r.TID]; ok {
			delete(p, r.TID)
			for _, o := range waiting {
				if max(o.Time, r.Time)-min(o.Time, r.Time) < OtherDelay { // else its own sample was lost
					r.Others = append(r.Others, o.Body)
				}
			}
		}
	}
	next(r)
}

// BeforeOther is what is before the words of a record: identifier, pid and
// tid, time, the length of the rest.
const BeforeOther = 8 + 8 + 8 + 4

// OtherKindOf returns a record's kind, 0 where it is too short for one.
func OtherKindOf(b []byte) uint64 {
	if len(b) < BeforeOther+OtherHeader {
		return 0
	}
	return binary.NativeEndian.Uint64(b[BeforeOther+OtherKind:])
}

// DecodeOther reads a record of a copied stack. A broken one is passed over:
// the stack is then cut off, as it would be without it.
func DecodeOther(b []byte, windows unwind.Memory, goes *unwind.GoStacks) unwind.Memory {
	ne := binary.NativeEndian
	if len(b) < BeforeOther+OtherHeader {
		return windows
	}
	b = b[BeforeOther:]
	word := func(at int) uint64 { return ne.Uint64(b[at:]) }
	n := word(OtherLength)
	if n > uint64(len(b)-OtherHeader) {
		return windows
	}
	if word(OtherKind) == KindGoStack {
		*goes = unwind.GoStacks{
			Known: true, Low: word(OtherLow), High: word(OtherHigh),
			SP: word(OtherSP), PC: word(OtherPC), BP: word(OtherBP), SystemSP: word(OtherSystemSP),
		}
	}
	if n == 0 {
		return windows
	}
	return append(windows, unwind.Window{Start: word(OtherAddr), Bytes: b[OtherHeader : OtherHeader+n]})
}
