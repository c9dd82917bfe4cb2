package take

import (
	"encoding/binary"
	"errors"
	"slices"
)

var errColumn = errors.New("a number is larger than its column allows")

// unsigned reads a column of small numbers, most of which are one byte long.
func unsigned[T ~uint8 | ~uint32 | ~int64](c *cursor, column []T) {
	b := c.b
	largest := uint64(1<<63 - 1)
	if all := ^T(0); all > 0 {
		largest = uint64(all)
	}
	for i := range column {
		if len(b) > 0 && b[0] < 0x80 {
			column[i] = T(b[0])
			b = b[1:]
			continue
		}
		v, n := binary.Uvarint(b)
		if n <= 0 {
			c.fail(errShort)
			return
		}
		if v > largest {
			c.fail(errColumn)
			return
		}
		column[i] = T(v)
		b = b[n:]
	}
	c.b = b
}

// signed reads a column of numbers that may be below 0.
func signed(c *cursor, column []int64) {
	b := c.b
	for i := range column {
		v, n := binary.Varint(b)
		if n <= 0 {
			c.fail(errShort)
			return
		}
		column[i] = v
		b = b[n:]
	}
	c.b = b
}

// longer makes a column longer by n entries, all of which are to be set, and returns these. A column
// that has to move gets room for as many again as it has.
func longer[T any](column *[]T, n int) []T {
	from := len(*column)
	if cap(*column) < from+n {
		*column = slices.Grow(*column, max(n, from))
	}
	*column = (*column)[:from+n]
	return (*column)[from:]
}
