package resolve

import (
	"slices"
	"unicode/utf8"

	"entelon/core/profile"
	"entelon/resolve/raw"
)

// labelsOf reads a sample's labels; missing reports that these are not all of them.
// Names of a set stand in order; where they do not, or a text is none, it was
// something else that was read.
func labelsOf(s *raw.Sample, b *profile.Builder) (set profile.LabelSetID, missing bool) {
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
	before := ""
	for i := range s.Labels {
		l := &s.Labels[i]
		name, good := text(l.NameLength, l.Name)
		value, fine := text(l.TextLength, l.Text)
		if !good || !fine || name == "" || before > name {
			return 0, true
		}
		before = name
		set = b.Label(set, name, value)
	}
	return set, len(s.Labels) != s.Labelled
}
