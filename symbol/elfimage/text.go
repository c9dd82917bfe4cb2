package elfimage

// Text returns the zero-terminated string at an offset.
func Text(b []byte, off uint32) string {
	if uint64(off) >= uint64(len(b)) {
		return ""
	}
	b = b[off:]
	for i, c := range b {
		if c == 0 {
			return string(b[:i])
		}
	}
	return ""
}
