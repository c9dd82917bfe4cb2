// Package lyric places syllables under their notes so that none overlap.
package lyric

import (
	"unicode/utf8"

	"entelon/demo/engraved/spacing"
)

// Word is a syllable at its place. Line is how far a sung-out syllable's line
// reaches, 0 if it has none.
type Word struct {
	Text string
	X    float64
	Line float64
}

// Place places the syllables of a line, pushing each right of the one before.
func Place(l spacing.Line) []Word {
	var out []Word
	edge := 0.0
	for _, m := range l.Measures {
		for i, n := range m.Notes {
			w := width(n.Syllable)
			x := max(n.X-w/2, edge+0.4)
			edge = x + w
			word := Word{Text: n.Syllable, X: x}
			word.Line = melisma(m.Notes, i)
			out = append(out, word)
		}
	}
	return out
}

var widths = func() (w [128]float64) {
	for i := range w {
		w[i] = 0.9
	}
	for _, r := range "ijlft" {
		w[r] = 0.5
	}
	w['m'], w['w'] = 1.4, 1.3
	return w
}()

func width(s string) float64 {
	w := 0.0
	for len(s) > 0 {
		r, n := utf8.DecodeRuneInString(s)
		if r < 128 {
			w += widths[r]
		} else {
			w++
		}
		s = s[n:]
	}
	return w
}
