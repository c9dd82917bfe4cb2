package resolve

import (
	"slices"
	"unicode/utf8"
	"unsafe"

	"entelon/core/profile"
	"entelon/linux/bpf"
)

// labelsOf reads a record of labels; whole reports that these are all of them.
// Names of a set stand in order; where they do not, or a text is none, it was
// something else that was read.
func labelsOf(h bpf.Header, body []byte, b *profile.Builder) (set profile.LabelSetID, whole bool) {
	text := func(length uint64, t []byte) (string, bool) {
		cut := length >= uint64(len(t))
		t = t[:min(length, uint64(len(t)))]
		if cut { // it may be cut within a character
			for range utf8.UTFMax - 1 {
				if r, size := utf8.DecodeLastRune(t); r != utf8.RuneError || size != 1 {
					break
				}
				t = t[:len(t)-1]
			}
		}
		return string(t), utf8.Valid(t) && !slices.Contains(t, 0)
	}
	n, before := uint64(0), ""
	const size = int(unsafe.Sizeof(bpf.GoLabel{}))
	for ; len(body) >= size; body = body[size:] {
		l := bpf.DecodeLabel(body)
		name, good := text(l.NameLength, l.Name[:])
		value, fine := text(l.TextLength, l.Text[:])
		if !good || !fine || name == "" || before > name {
			return 0, false
		}
		before = name
		set = b.Label(set, name, value)
		n++
	}
	return set, n == h.Low
}
