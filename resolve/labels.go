package resolve

import (
	"encoding/binary"
	"slices"
	"unicode/utf8"

	"entelon/core/profile"
	"entelon/linux/bpf"
)

// labelsOf reads a record of labels; whole reports that these are all of them.
// Names of a set stand in order; where they do not, or a text is none, it was
// something else that was read.
func labelsOf(record []byte, b *profile.Builder) (set profile.LabelSetID, whole bool) {
	ne := binary.NativeEndian
	if len(record) < bpf.BeforeOther+bpf.OtherHeader {
		return 0, false
	}
	record = record[bpf.BeforeOther:]
	body := record[bpf.OtherHeader:]
	body = body[:min(uint64(len(body)), ne.Uint64(record[bpf.OtherLength:]))]
	text := func(at, most int) (string, bool) {
		n := int(min(ne.Uint64(body[at:]), uint64(most)))
		t := body[at+8 : at+8+n]
		if n == most { // it may be cut within a character
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
	for ; len(body) >= bpf.LabelBytes; body = body[bpf.LabelBytes:] {
		name, good := text(0, bpf.LabelNameBytes)
		value, fine := text(8+bpf.LabelNameBytes, bpf.LabelTextBytes)
		if !good || !fine || name == "" || before > name {
			return 0, false
		}
		before = name
		set = b.Label(set, name, value)
		n++
	}
	return set, n == ne.Uint64(record[bpf.OtherLow:])
}
