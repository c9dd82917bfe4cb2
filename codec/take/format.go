// Package take reads and writes .take files, Entelon's own format, which
// docs/take-format.md specifies. A take is written while it is collected: in
// checksummed, compressed blocks, each of which adds to what stood before, so
// that whatever ends the writer leaves a file that can be read up to its last
// block.
package take

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
)

// The formats. Version2 keeps for each frame how the walk got to it, in what
// was a flag alone; Version3 has one way more; Version4 tells of a measure that
// every event is in it; Version5 may bring source files; Version6 may bring the
// labels of samples; Version7 keeps what a mark says as a number, says what the time
// of a measure's samples is, and may have samples without times; Version8 has one way
// to a frame more; Version9 may have intervals; Version10 may have goroutines beside threads,
// and spans; Version11 may have events of any measure as intervals, and says of what type their
// attributes are. The newest is the one that is written.
const (
	Version1 = 1
	Version2 = 2
	Version3 = 3
	Version4 = 4
	Version5 = 5
	Version6 = 6
	Version7 = 7
	Version8 = 8
	Version9 = 9

	Version10 = 10
	Version11 = 11
	current   = Version11
)

// magic begins every file. Its last byte is one that no text file has.
var magic = [8]byte{'E', 'N', 'T', 'T', 'A', 'K', 'E', 0x1a}

const (
	fileHeaderSize  = 16
	blockHeaderSize = 24
)

type blockKind uint32

// The kinds of block: the first five from Version1 on, blockSource from Version5
// on, blockLabels from Version6 on, blockIntervals from Version9 on.
const (
	blockHead    blockKind = 1 // JSON: settings and machine; always the first
	blockTables  blockKind = 2 // what the tables gained
	blockSamples blockKind = 3 // samples in columns
	blockFacts   blockKind = 4 // JSON: what is known so far; the last one counts
	blockEnd     blockKind = 5 // how many blocks, samples and intervals there are; always the last
	blockSource  blockKind = 6 // JSON: a source file
	blockLabels  blockKind = 7 // new sets of labels, and those of the block of samples before it

	blockIntervals blockKind = 8 // intervals in columns, with what ended them and what else is known
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// blockHeader stands before each block's stored bytes.
type blockHeader struct {
	kind     blockKind
	sequence uint32 // 0, 1, 2 …
	stored   uint32 // length of what follows, compressed
	raw      uint32 // its length when unpacked
	sum      uint32 // CRC-32C of the stored bytes
}

func (h blockHeader) encode() [blockHeaderSize]byte {
	var b [blockHeaderSize]byte
	le := binary.LittleEndian
	le.PutUint32(b[0:], uint32(h.kind))
	le.PutUint32(b[4:], h.sequence)
	le.PutUint32(b[8:], h.stored)
	le.PutUint32(b[12:], h.raw)
	le.PutUint32(b[16:], h.sum)
	le.PutUint32(b[20:], crc32.Checksum(b[:20], castagnoli))
	return b
}

func decodeBlockHeader(b *[blockHeaderSize]byte) (blockHeader, bool) {
	le := binary.LittleEndian
	if le.Uint32(b[20:]) != crc32.Checksum(b[:20], castagnoli) {
		return blockHeader{}, false
	}
	return blockHeader{
		kind:     blockKind(le.Uint32(b[0:])),
		sequence: le.Uint32(b[4:]),
		stored:   le.Uint32(b[8:]),
		raw:      le.Uint32(b[12:]),
		sum:      le.Uint32(b[16:]),
	}, true
}

func encodeFileHeader() [fileHeaderSize]byte {
	var b [fileHeaderSize]byte
	copy(b[:], magic[:])
	binary.LittleEndian.PutUint32(b[8:], current)
	binary.LittleEndian.PutUint32(b[12:], crc32.Checksum(b[:12], castagnoli))
	return b
}

// Reason sorts the ways in which a file cannot be read.
type Reason int

// The reasons.
const (
	Empty     Reason = iota // no bytes at all
	NotATake                // begins with something else
	Newer                   // written in a format that this reader does not know
	CutOff                  // ends in the middle of a block
	Damaged                 // a checksum or an inner rule is broken
	TooLarge                // more than the limits allow
	NoSamples               // ends before anything was kept
)

// Error says what is wrong with a take file, and where.
type Error struct {
	Reason Reason
	Name   string // the file, as the caller named it
	Offset int64  // byte at which the trouble begins
	Block  int    // number of whole blocks before it
	What   string
	Cause  error
}

func (e *Error) Error() string {
	s := e.Name + ": " + e.What
	if e.Reason == CutOff || e.Reason == Damaged || e.Reason == TooLarge {
		s += fmt.Sprintf(" (block %d, byte %d)", e.Block, e.Offset)
	}
	if e.Cause != nil {
		s += ": " + e.Cause.Error()
	}
	return s
}

func (e *Error) Unwrap() error { return e.Cause }

// Remedy is one sentence on what can be done.
func (e *Error) Remedy() string {
	switch e.Reason {
	case Empty, NoSamples:
		return "take it again with: entelon take --out FILE.take -- COMMAND"
	case NotATake:
		return "give a file that 'entelon take' wrote"
	case Newer:
		return "read it with the Entelon that wrote it, or a later one"
	case CutOff:
		return "copy it again from where it came; --salvage reads the whole blocks before that place"
	case Damaged:
		return "copy it again from where it came; --salvage reads the blocks before the damage"
	case TooLarge:
		return "collect for a shorter time or at a lower rate"
	}
	return ""
}
