package take

import (
	"encoding/binary"
	"iter"
	"math/bits"

	"entelon/core/parallel"
)

// columns are those of a block, which are read side by side. Where each begins is found beforehand, which is
// much less work than reading it: a number ends at the byte whose highest bit is not set.
type columns struct {
	c    *cursor
	each []column
	rows int
}

type column struct {
	b    []byte
	read func(*cursor)
}

// add takes a column of n numbers, which come next.
func (cs *columns) add(n int, read func(*cursor)) {
	cs.each = append(cs.each, column{cs.c.skip(n), read})
	cs.rows += n
}

// worthIt is from how many numbers on columns are read side by side.
const worthIt = 1 << 15

// read reads all columns. The error is that of the first one that has any.
func (cs *columns) read() error {
	errs := make([]error, len(cs.each))
	one := func(i int) {
		x := &cursor{b: cs.each[i].b, room: cs.c.room}
		cs.each[i].read(x)
		errs[i] = x.end()
	}
	if cs.rows < worthIt {
		for i := range cs.each {
			one(i)
		}
	} else {
		parallel.PiecesFrom(2, len(cs.each), func(pieces iter.Seq2[int, int]) {
			for low, high := range pieces {
				for i := low; i < high; i++ {
					one(i)
				}
			}
		})
	}
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

// skip goes beyond n numbers and returns their bytes.
func (c *cursor) skip(n int) []byte {
	b, at := c.b, 0
	for n > 0 && at+8 <= len(b) {
		ends := bits.OnesCount64(^binary.LittleEndian.Uint64(b[at:]) & 0x8080808080808080)
		if ends > n {
			break
		}
		n -= ends
		at += 8
	}
	// The last number may have ended before the last of those bytes.
	for n == 0 && at > 0 && b[at-1] >= 0x80 {
		at--
	}
	for ; n > 0; at++ {
		if at == len(b) {
			c.fail(errShort)
			return nil
		}
		if b[at] < 0x80 {
			n--
		}
	}
	c.b = b[at:]
	return b[:at]
}
