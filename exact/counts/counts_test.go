package counts

import (
	"encoding/binary"
	"errors"
	"io"
	"testing"
)

// sparse is a file of which only some pieces are not zero.
type sparse struct {
	pieces map[int64][]byte
	size   int64
}

func (s *sparse) ReadAt(b []byte, at int64) (n int, err error) {
	clear(b)
	for from, piece := range s.pieces {
		if low, high := max(at, from), min(at+int64(len(b)), from+int64(len(piece))); low < high {
			copy(b[low-at:high-at], piece[low-from:])
		}
	}
	if at+int64(len(b)) > s.size {
		return int(max(0, s.size-at)), io.EOF
	}
	return len(b), nil
}

// file makes a file with one entry in each table, as the plugin would leave it.
func file() *sparse {
	le := binary.LittleEndian
	at := []int64{page}
	for _, n := range []int64{maxMappings * mappingSize, maxBlocks * blockSize, maxContexts * contextSize, maxPairs * pairSize} {
		at = append(at, at[len(at)-1]+rounded(n))
	}
	cells := at[4] + rounded(maxBytes)
	f := &sparse{map[int64][]byte{}, cells + 2*cellSize}
	piece := func(at, n int64) []byte {
		f.pieces[at] = make([]byte, n)
		return f.pieces[at]
	}
	h := piece(0, headerSize)
	le.PutUint64(h, magic)
	for i, n := range []uint32{2, 2, 2, 2, 9} { // blocks, contexts, pairs, mappings, bytes
		le.PutUint32(h[8+4*i:], n)
	}
	le.PutUint32(h[28:], 4711)
	m := piece(at[0]+mappingSize, mappingSize)
	le.PutUint64(m, 0x1000)
	le.PutUint64(m[8:], 0x2000)
	le.PutUint32(m[24:], 1)
	le.PutUint32(m[28:], 4)
	copy(piece(at[4]+1, 8), "/ink\x01\x02\x03")
	x := piece(at[1]+blockSize, blockSize)
	le.PutUint64(x, 0x1100)
	le.PutUint64(x[8:], 0x1100)
	le.PutUint32(x[16:], 1)
	le.PutUint32(x[20:], 5)
	le.PutUint16(x[24:], 3)
	c := piece(at[2]+contextSize, contextSize)
	le.PutUint64(c, 0x1100)
	le.PutUint64(c[16:], 7)
	p := piece(at[3]+pairSize, pairSize)
	le.PutUint64(p, 1000)
	le.PutUint32(p[8:], 1)
	le.PutUint32(p[12:], 1)
	le.PutUint32(h[88:], 2)
	cell := piece(cells+cellSize, cellSize)
	le.PutUint64(cell, 5)
	le.PutUint64(cell[16:], 40)
	le.PutUint32(cell[56:], 1)
	le.PutUint32(cell[64:], 2)
	return f
}

func TestRead(t *testing.T) {
	c, err := Read(file())
	if err != nil || c.PID != 4711 || c.Instructions() != 3000 || c.Mappings[0].Path != "/ink" || c.Contexts[0].Calls != 7 || c.Contexts[0].Parent != -1 || c.Blocks[0].Mapping != 0 {
		t.Errorf("%+v, %v", c, err)
	}
	if len(c.Cells) != 1 || c.Cells[0].Pair != 0 || c.Cells[0].Instruction != 2 || c.Cells[0].N[Loads] != 5 || c.Cells[0].N[LoadedBytes] != 40 {
		t.Errorf("%+v", c.Cells)
	}
	short := file()
	short.size = 3000
	if _, err := Read(short); err == nil {
		t.Error("a file that is cut off")
	}
	for _, at := range []int64{0, 16} { // a count that is as large as it can be: of a block, and of calls
		x := file()
		for _, piece := range x.pieces {
			if len(piece) == pairSize && at == 0 || len(piece) == contextSize && at == 16 {
				binary.LittleEndian.PutUint64(piece[at:], 1<<63)
			}
		}
		if _, err := Read(x); !errors.Is(err, ErrTooMany) {
			t.Errorf("%v", err)
		}
	}
}

// FuzzRead: a program can write what it likes into its own counts; nothing in them points
// outside.
func FuzzRead(f *testing.F) {
	f.Add(int64(8), uint32(1<<31))
	f.Add(int64(24), uint32(1<<20))
	f.Add(int64(page+mappingSize+24), uint32(1<<26))
	for from := range file().pieces {
		f.Add(from+4, uint32(1<<31))
		f.Add(from+20, uint32(1<<31))
	}
	f.Fuzz(func(t *testing.T, at int64, value uint32) {
		x := file()
		for from, piece := range x.pieces {
			if at >= from && at+4 <= from+int64(len(piece)) {
				binary.LittleEndian.PutUint32(piece[at-from:], value)
			}
		}
		c, err := Read(x)
		if err != nil {
			return
		}
		if c.Instructions() > maxSum {
			t.Fatalf("%d instructions", c.Instructions())
		}
		for _, x := range c.Cells {
			if int(x.Instruction) >= len(c.Blocks[c.Pairs[x.Pair].Block].Lengths) {
				t.Fatalf("a cell of instruction %d", x.Instruction)
			}
		}
		for i := range c.Contexts {
			if p := c.Contexts[i].Parent; int(p) >= i {
				t.Fatalf("context %d is called by %d", i, p)
			}
		}
	})
}
