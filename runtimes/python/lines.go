package python

// lineOf returns the line of the instruction at an offset in bytes from the
// beginning of a function's instructions, by its location table, in which
// every entry covers some units of two bytes (Objects/locations.md of
// CPython's source). It returns 0 where the table says none, or ends before.
func lineOf(table []byte, first int, offset uint64) uint32 {
	line, unit := first, uint64(0)
	for len(table) > 0 {
		head := table[0]
		if head&0x80 == 0 {
			return 0 // entries begin with this bit
		}
		table = table[1:]
		code, length := head>>3&15, uint64(head&7)+1
		none := false
		switch {
		case code == 15:
			none = true
		case code == 13, code == 14: // a signed difference; with columns and an end, too
			var d int
			d, table = signed(table)
			line += d
		case code >= 10:
			line += int(code) - 10
		}
		unit += length
		if offset < 2*unit {
			if none || line < 0 {
				return 0
			}
			return uint32(line)
		}
		for len(table) > 0 && table[0]&0x80 == 0 {
			table = table[1:] // columns
		}
	}
	return 0
}

// signed reads a number in groups of six bits, the lowest bit being the sign.
func signed(b []byte) (int, []byte) {
	v, shift := uint(0), 0
	for len(b) > 0 {
		c := b[0]
		b = b[1:]
		v |= uint(c&63) << shift
		if shift += 6; c&64 == 0 || shift > 30 {
			break
		}
	}
	if v&1 != 0 {
		return -int(v >> 1), b
	}
	return int(v >> 1), b
}
