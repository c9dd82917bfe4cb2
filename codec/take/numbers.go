package take

import (
	"encoding/binary"
	"errors"
	"math/bits"
)

var errColumn = errors.New("a number is larger than its column allows")

// unsigned reads a column of small numbers.
func unsigned[T ~uint8 | ~uint32 | ~int64](c *cursor, column []T) {
	b, at := c.b, 0
	largest := uint64(1<<63 - 1)
	if all := ^T(0); all > 0 {
		largest = uint64(all)
	}
	for i := range column {
		var v uint64
		var n int
		if at+8 <= len(b) {
			v, n = short(binary.LittleEndian.Uint64(b[at:]))
		}
		if n == 0 {
			if v, n = binary.Uvarint(b[at:]); n <= 0 {
				c.fail(errShort)
				return
			}
		}
		if v > largest {
			c.fail(errColumn)
			return
		}
		column[i] = T(v)
		at += n
	}
	c.b = b[at:]
}

// signed reads a column of numbers that may be below 0.
func signed(c *cursor, column []int64) {
	b, at := c.b, 0
	for i := range column {
		var v uint64
		var n int
		if at+8 <= len(b) {
			v, n = short(binary.LittleEndian.Uint64(b[at:]))
		}
		if n == 0 {
			if v, n = binary.Uvarint(b[at:]); n <= 0 {
				c.fail(errShort)
				return
			}
		}
		column[i] = int64(v>>1) ^ -int64(v&1)
		at += n
	}
	c.b = b[at:]
}

// short reads a number of up to eight bytes, as binary.Uvarint does, with them all at once: the highest bit
// of each says whether another one follows, and the other seven are its part of the number. n is 0 where it
// is longer.
func short(w uint64) (v uint64, n int) {
	last := ^w & 0x8080808080808080
	if last == 0 {
		return 0, 0
	}
	w &= (last ^ (last - 1)) & 0x7f7f7f7f7f7f7f7f // up to the end of the number
	w = w&0x007f007f007f007f | w>>1&0x3f803f803f803f80
	w = w&0x00003fff00003fff | w>>2&0x0fffc0000fffc000
	return w&0x000000000fffffff | w>>4&0x00fffffff0000000, bits.TrailingZeros64(last)/8 + 1
}

// longer makes a column longer by n entries, all of which are to be set, and returns these. A column
// that has to move gets room for as many again as it has, or as are expected.
func longer[T any](column *[]T, n int) []T { return longerBy(column, n, 0) }

func longerBy[T any](column *[]T, n, expected int) []T {
	from := len(*column)
	if cap(*column) < from+n {
		// Room of its own needs no zeros where the system has just given it; what append makes is cleared.
		grown := make([]T, from, from+max(n, from, min(expected-from, maxAhead*(from+n))))
		copy(grown, *column)
		*column = grown
	}
	*column = (*column)[:from+n]
	return (*column)[from:]
}

// maxAhead is how many times as many entries as there are get room because they are expected: a file may
// begin in one way and go on in another.
const maxAhead = 60
