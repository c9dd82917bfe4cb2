// Package counts reads what the emulator's plugin leaves of a process: tables in a file that
// the process had mapped shared, so that they are there however it ended. The program itself
// could write to them, so nothing in them is believed: every number that points somewhere is
// checked.
//
// It reads bytes and knows no process.
package counts

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/bits"
	"slices"
	"unsafe"
)

// The bounds and the layout are those of plugin/record.h.
const (
	magic = 0x3174636178653e45

	maxPath     = 4096 // bytes of a program's
	maxBlocks   = 1 << 21
	maxContexts = 1 << 20
	maxPairs    = 1 << 22
	maxMappings = 1 << 12
	maxBytes    = 1 << 26

	page     = 4096
	maxCells = 1 << 22

	headerSize  = 128
	mappingSize = 32
	blockSize   = 32
	contextSize = 48
	pairSize    = 24
	cellSize    = 72
)

// Ended says how a process ended.
type Ended uint32

// How a process ended.
const (
	Killed Ended = iota // before it could say so
	Exited
	Executed // another program in its place, which has a file of its own
	Left     // it executed a program that the emulator does not run, which is not counted
)

// Mapping is where a file's code lay.
type Mapping struct {
	Start, End, Offset uint64
	Path               string
}

// Block is a run of instructions that are executed one after the other.
type Block struct {
	Address  uint64
	Function uint64 // where the function begins that it is of
	Mapping  int32  // -1: of no file
	Lengths  []byte // of its instructions, in bytes
}

// At is the address of an instruction, from 0.
func (b *Block) At(instruction int32) uint64 {
	at := b.Address
	for _, length := range b.Lengths[:instruction] {
		at += uint64(length)
	}
	return at
}

// Context is a function as it was called from a place, with all that is above it.
type Context struct {
	Function uint64
	Site     uint64 // the address of the call, 0: none
	Calls    uint64
	Parent   int32 // -1: none; else before this one
	Thread   uint32
}

// Pair is how often a block was executed in a context.
type Pair struct {
	Context, Block int32
	Count          uint64
}

// Event is something that an instruction does, or that a model says of it.
type Event int

// The events, as a cell has them.
const (
	Loads Event = iota
	Stores
	LoadedBytes
	StoredBytes
	MissedFirst  // lines that a model of the first-level cache does not have
	MissedSecond // and the second level neither
	Mispredicted // branches, by a model
	Events       // how many there are
)

// Cell is what one instruction of a pair's block did.
type Cell struct {
	Pair        int32 // index into Pairs
	Instruction int32 // of the block, from 0
	N           [Events]uint64
}

// Counts are those of one process.
type Counts struct {
	PID, Parent uint32
	Program     string // the path that it executed
	Ended       Ended
	Mappings    []Mapping
	Blocks      []Block
	Contexts    []Context
	Pairs       []Pair
	Cells       []Cell // in order of their pairs; none where accesses were not counted
	Flat        uint64 // blocks that were executed in a chain without room, and stand under their function alone
	Homeless    uint64 // accesses that had no room
	Broken      uint32 // stacks that went on in their midst, of which nothing was known
	Lost        uint64 // calls that had no room, alone neither
	Followed    uint64 // threads that went on with the counts of one that had ended
	Merged      uint64 // calls whose context had no room and stand alone, without what called them
	Uncounted   uint64 // blocks that were executed and had no room
	Unmatched   uint64 // returns to where nothing called from
	texts       int64  // bytes that parts of blocks and mappings lie in
	Entered     uint64 // calls that could have begun the part that counts
}

// Size is how much memory they take, in bytes.
func (c *Counts) Size() int64 {
	n := int64(cap(c.Contexts))*int64(unsafe.Sizeof(Context{})) + int64(cap(c.Pairs))*int64(unsafe.Sizeof(Pair{})) + int64(cap(c.Cells))*int64(unsafe.Sizeof(Cell{}))
	return n + int64(cap(c.Blocks))*int64(unsafe.Sizeof(Block{})) + int64(cap(c.Mappings))*int64(unsafe.Sizeof(Mapping{})) + c.texts
}

// Errors of files that the plugin did not write, or a program wrote into.
var (
	ErrNoCounts = errors.New("this is not what the emulator's plugin leaves")
	ErrTooMany  = errors.New("the numbers add up to more than can be counted")
)

// maxSum is what the instructions of a process, or its calls, add up to at most.
const maxSum = 1 << 60

// rounded is the room of a table in the file.
func rounded(n int64) int64 { return (n + page - 1) / page * page }

// Read reads a file.
func Read(f io.ReaderAt) (*Counts, error) {
	le := binary.LittleEndian
	h := make([]byte, headerSize)
	if _, err := f.ReadAt(h, 0); err != nil || le.Uint64(h) != magic {
		return nil, ErrNoCounts
	}
	c := &Counts{PID: le.Uint32(h[28:]), Parent: le.Uint32(h[32:]), Ended: Ended(le.Uint32(h[36:])), Merged: le.Uint64(h[40:]), Uncounted: le.Uint64(h[48:]), Unmatched: le.Uint64(h[56:]), Entered: le.Uint64(h[72:]), Homeless: le.Uint64(h[80:]), Broken: le.Uint32(h[92:]), Flat: le.Uint64(h[96:]), Lost: le.Uint64(h[104:]), Followed: le.Uint64(h[112:])}
	at := int64(page)
	// table reads the entries of a table but the first, which is not used.
	table := func(used uint32, most, size int64) ([]byte, error) {
		n := min(int64(used), most)
		b := make([]byte, max(0, n-1)*size)
		_, err := f.ReadAt(b, at+size)
		at += rounded(most * size)
		return b, err
	}
	var mappings, blocks, contexts, pairs, bytes, cells []byte
	for _, t := range []struct {
		to         *[]byte
		used       uint32
		most, size int64
	}{
		{&mappings, le.Uint32(h[20:]), maxMappings, mappingSize}, {&blocks, le.Uint32(h[8:]), maxBlocks, blockSize},
		{&contexts, le.Uint32(h[12:]), maxContexts, contextSize}, {&pairs, le.Uint32(h[16:]), maxPairs, pairSize},
		{&bytes, le.Uint32(h[24:]), maxBytes, 1}, {&cells, le.Uint32(h[88:]), maxCells, cellSize},
	} {
		b, err := table(t.used, t.most, t.size)
		if err != nil {
			return nil, fmt.Errorf("reading a table of %d entries: %w", t.used, err)
		}
		*t.to = b
	}
	// text returns bytes by where they are, counted with the first one, which is not used.
	text := func(at, n uint32) []byte {
		if at == 0 || uint64(at)-1+uint64(n) > uint64(len(bytes)) {
			return nil
		}
		return bytes[at-1 : at-1+n]
	}
	c.texts = int64(len(bytes))
	c.Program = string(text(le.Uint32(h[120:]), min(le.Uint32(h[124:]), maxPath)))
	for b := mappings; len(b) > 0; b = b[mappingSize:] {
		c.Mappings = append(c.Mappings, Mapping{le.Uint64(b), le.Uint64(b[8:]), le.Uint64(b[16:]), string(text(le.Uint32(b[24:]), le.Uint32(b[28:])))})
	}
	for b := blocks; len(b) > 0; b = b[blockSize:] {
		x := Block{Address: le.Uint64(b), Function: le.Uint64(b[8:]), Mapping: int32(le.Uint32(b[16:])) - 1, Lengths: text(le.Uint32(b[20:]), uint32(le.Uint16(b[24:])))}
		if x.Mapping < -1 || int(x.Mapping) >= len(c.Mappings) {
			return nil, fmt.Errorf("a block is of mapping %d: %w", x.Mapping, ErrNoCounts)
		}
		c.Blocks = append(c.Blocks, x)
	}
	calls, instructions := uint64(0), uint64(0)
	for b := contexts; len(b) > 0; b = b[contextSize:] {
		x := Context{le.Uint64(b), le.Uint64(b[8:]), le.Uint64(b[16:]), int32(le.Uint32(b[24:])) - 1, le.Uint32(b[40:])}
		if x.Parent < -1 || int(x.Parent) >= len(c.Contexts) {
			return nil, fmt.Errorf("a context is of context %d: %w", x.Parent, ErrNoCounts)
		}
		if x.Calls > maxSum-calls {
			return nil, ErrTooMany
		}
		calls += x.Calls
		c.Contexts = append(c.Contexts, x)
	}
	placed := make([]int32, 0, len(pairs)/pairSize) // where each pair is, -1: it was left out
	for b := pairs; len(b) > 0; b = b[pairSize:] {
		placed = append(placed, int32(len(c.Pairs)))
		x := Pair{int32(le.Uint32(b[8:])) - 1, int32(le.Uint32(b[12:])) - 1, le.Uint64(b)}
		if x.Count == 0 {
			placed[len(placed)-1] = -1
			continue // it was being added when the process was killed
		}
		if x.Context < 0 || int(x.Context) >= len(c.Contexts) || x.Block < 0 || int(x.Block) >= len(c.Blocks) {
			return nil, fmt.Errorf("a count is of block %d in context %d: %w", x.Block, x.Context, ErrNoCounts)
		}
		more, low := bits.Mul64(x.Count, uint64(len(c.Blocks[x.Block].Lengths)))
		if more > 0 || low > maxSum-instructions {
			return nil, ErrTooMany
		}
		instructions += low
		c.Pairs = append(c.Pairs, x)
	}
	var sums [Events]uint64
	for b := cells; len(b) > 0; b = b[cellSize:] {
		pair, instruction := le.Uint32(b[56:]), le.Uint32(b[64:])
		if pair == 0 {
			continue // it was being added when the process was killed
		}
		if pair > uint32(len(placed)) || placed[pair-1] < 0 || uint64(instruction) >= uint64(len(c.Blocks[c.Pairs[placed[pair-1]].Block].Lengths)) {
			return nil, fmt.Errorf("a cell is of instruction %d of pair %d: %w", instruction, pair, ErrNoCounts)
		}
		x := Cell{Pair: placed[pair-1], Instruction: int32(instruction)}
		for i := range x.N {
			x.N[i] = le.Uint64(b[8*i:])
			if x.N[i] > maxSum-sums[i] {
				return nil, ErrTooMany
			}
			sums[i] += x.N[i]
		}
		c.Cells = append(c.Cells, x)
	}
	slices.SortFunc(c.Cells, func(a, b Cell) int {
		return cmp.Or(cmp.Compare(a.Pair, b.Pair), cmp.Compare(a.Instruction, b.Instruction))
	})
	return c, nil
}

// Instructions is how many were executed.
func (c *Counts) Instructions() (n uint64) {
	for _, p := range c.Pairs {
		n += p.Count * uint64(len(c.Blocks[p.Block].Lengths))
	}
	return n
}
