// Package spacing gives every note its place on a line: measures are filled
// into lines, and each line is stretched until it fits the page.
package spacing

import (
	"math"

	"entelon/demo/engraved/score"
)

// PageWidth is the width of a line in staff spaces.
const PageWidth = 180.0

// Line is one line of a page.
type Line struct {
	Measures []score.Measure
	Width    float64
}

// Justify breaks a part into lines and stretches each to the width.
func Justify(p score.Part, width float64) []Line {
	var lines []Line
	var line Line
	for _, m := range p.Measures {
		m.Width = natural(m)
		if line.Width+m.Width > width && len(line.Measures) > 0 {
			lines = append(lines, stretch(line, width))
			line = Line{}
		}
		line.Measures = append(line.Measures, m)
		line.Width += m.Width
	}
	if len(line.Measures) > 0 {
		lines = append(lines, stretch(line, width))
	}
	return lines
}

// natural is a measure's width with nothing pulling at it.
func natural(m score.Measure) float64 {
	w := 4.0
	for _, n := range m.Notes {
		w += 2.2 + 0.6*math.Log2(float64(n.Length))
	}
	return w
}

// stretch finds the force at which all springs of the line together fill the
// width, by halving, and places the notes.
func stretch(l Line, width float64) Line {
	low, high := 0.0, 8.0
	for range 48 {
		force := (low + high) / 2
		if extent(l, force) < width {
			low = force
		} else {
			high = force
		}
	}
	x := 0.0
	for i := range l.Measures {
		begin := x
		x += 2
		for j := range l.Measures[i].Notes {
			n := &l.Measures[i].Notes[j]
			n.X = x
			x += spring(n.Length, low)
		}
		x += 2
		l.Measures[i].Width = x - begin
	}
	l.Width = x
	return l
}

func extent(l Line, force float64) float64 {
	w := 0.0
	for _, m := range l.Measures {
		w += 4
		for _, n := range m.Notes {
			w += spring(n.Length, force)
		}
	}
	return w
}

// spring is the room of one note under a force: longer notes give more.
func spring(length int, force float64) float64 {
	return 1.1 + force*math.Pow(float64(length), 0.38)
}
