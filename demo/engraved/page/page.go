// Package page draws lines of music as paths.
package page

import (
	"strconv"
	"strings"

	"entelon/demo/engraved/beam"
	"entelon/demo/engraved/glyph"
	"entelon/demo/engraved/lyric"
	"entelon/demo/engraved/slur"
	"entelon/demo/engraved/spacing"
)

// Draw writes one line.
func Draw(out *strings.Builder, l spacing.Line, beams []beam.Beam, slurs []slur.Slur, words []lyric.Word) {
	pen := pen{out: out}
	pen.braid(l)
	for i := range 5 {
		pen.stroke(0, float64(i), l.Width, float64(i))
	}
	for _, m := range l.Measures {
		for _, n := range m.Notes {
			pen.outline(glyph.Outline(headName(n.Length), 1, n.X), n.X, float64(n.Pitch)/2)
		}
	}
	for _, b := range beams {
		notes := l.Measures[b.Measure].Notes
		pen.stroke(notes[b.First].X, b.Left, notes[b.Last].X, b.Right)
	}
	for _, s := range slurs {
		pen.curve(s)
	}
	for _, w := range words {
		pen.text(w)
	}
}

func headName(length int) string {
	switch {
	case length >= 64:
		return "head-whole"
	case length >= 32:
		return "head-half"
	}
	return "head"
}

// pen writes path commands with two digits behind the point.
type pen struct {
	out *strings.Builder
	buf [32]byte
}

func (p *pen) number(v float64) {
	p.out.Write(strconv.AppendFloat(p.buf[:0], v, 'f', 2, 64))
	p.out.WriteByte(' ')
}

func (p *pen) point(command byte, x, y float64) {
	p.out.WriteByte(command)
	p.number(x)
	p.number(y)
}

func (p *pen) stroke(x0, y0, x1, y1 float64) {
	p.point('M', x0, y0)
	p.point('L', x1, y1)
}

func (p *pen) outline(o []glyph.Point, x, y float64) {
	for i, q := range o {
		if i == 0 {
			p.point('M', x+q.X, y+q.Y)
		} else if i%4 == 0 {
			p.point('L', x+q.X, y+q.Y)
		}
	}
	p.out.WriteByte('Z')
}

func (p *pen) curve(s slur.Slur) {
	p.point('M', s.X0, s.Y0)
	p.point('Q', (s.X0+s.X1)/2, (s.Y0+s.Y1)/2+2*s.Lift)
	p.point(' ', s.X1, s.Y1)
}

func (p *pen) text(w lyric.Word) {
	p.out.WriteString("<text x=\"")
	p.number(w.X)
	p.out.WriteString("\">")
	p.out.WriteString(w.Text)
	p.out.WriteString("</text>")
	if w.Line > 0 {
		p.stroke(w.X, -6, w.Line, -6)
	}
}
