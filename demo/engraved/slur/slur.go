// Package slur routes slurs around the skyline of the note heads below them.
package slur

import (
	"math"

	"entelon/demo/engraved/spacing"
)

// Slur is a curve over some notes.
type Slur struct {
	X0, Y0, X1, Y1 float64
	Lift           float64 // height of its middle above the straight line
}

// head is the box of one note on the skyline.
type head struct{ left, right, top float64 }

// Skyline is the upper outline of a line's notes.
type Skyline struct{ heads []head }

// NewSkyline collects the heads of a line.
func NewSkyline(l spacing.Line) *Skyline {
	s := &Skyline{}
	for _, m := range l.Measures {
		for _, n := range m.Notes {
			s.heads = append(s.heads, head{n.X - 0.7, n.X + 0.7, float64(n.Pitch)/2 + 0.6})
		}
	}
	return s
}

// Height is the height of the skyline at x.
func (s *Skyline) Height(x float64) float64 {
	top := math.Inf(-1)
	for _, h := range s.heads {
		if h.left <= x && x <= h.right && h.top > top {
			top = h.top
		}
	}
	return top
}

// Route finds the slurs of a line.
func Route(l spacing.Line) []Slur {
	sky := NewSkyline(l)
	var out []Slur
	for _, m := range l.Measures {
		for _, n := range m.Notes {
			if n.SlurTo < 0 || n.SlurTo >= len(m.Notes) {
				continue
			}
			end := m.Notes[n.SlurTo]
			s := Slur{X0: n.X, Y0: float64(n.Pitch)/2 + 1, X1: end.X, Y1: float64(end.Pitch)/2 + 1}
			s.Lift = lift(sky, s)
			out = append(out, s)
		}
	}
	return out
}

// points is at how many places a slur is held against the skyline.
const points = 24

// lifts are the heights that are tried, in quarters of a space.
const lifts = 20

// at returns the place of a slur at t from 0 to 1: a parabola over the line
// between its ends.
func (s Slur) at(t, lift float64) (x, y float64) {
	return s.X0 + t*(s.X1-s.X0), s.Y0 + t*(s.Y1-s.Y0) + 4*lift*t*(1-t)
}

// excess is the penalty of a slur that comes within a quarter of a space of a head.
func excess(y, sky float64) float64 {
	if d := sky + 0.25 - y; d > 0 {
		return d * d
	}
	return 0
}
