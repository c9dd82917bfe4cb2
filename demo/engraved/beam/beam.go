// Package beam groups short notes under beams and finds for each beam the
// slope that keeps its stems near their ideal length.
package beam

import (
	"math"

	"entelon/demo/engraved/score"
	"entelon/demo/engraved/spacing"
)

// Beam joins the notes from First to Last of a measure.
type Beam struct {
	Measure, First, Last int
	Left, Right          float64 // height at both ends
}

// Group finds the beams of a line.
func Group(l spacing.Line) []Beam {
	var out []Beam
	for mi, m := range l.Measures {
		first := -1
		for i := 0; i <= len(m.Notes); i++ {
			short := i < len(m.Notes) && m.Notes[i].Length <= 8
			if short && first < 0 {
				first = i
			}
			if !short && first >= 0 {
				if i-first > 1 {
					out = append(out, slope(m.Notes[first:i], mi, first))
				}
				first = -1
			}
		}
	}
	return out
}

// slope tries beams of many slopes and heights and keeps the cheapest.
func slope(notes []score.Note, measure, first int) Beam {
	best := math.Inf(1)
	b := Beam{Measure: measure, First: first, Last: first + len(notes) - 1}
	span := notes[len(notes)-1].X - notes[0].X
	for tilt := -12; tilt <= 12; tilt++ {
		k := float64(tilt) / 24
		for h := 0; h < 24; h++ {
			left := float64(notes[0].Pitch)/2 + float64(h)/4
			if c := cost(notes, left, k); c < best {
				best, b.Left, b.Right = c, left, left+k*span
			}
		}
	}
	return b
}

// cost is how far the stems are from 3.5 spaces, and how steep the beam is.
func cost(notes []score.Note, left, k float64) float64 {
	c := 3 * k * k
	for _, n := range notes {
		stem := left + k*(n.X-notes[0].X) - float64(n.Pitch)/2
		d := stem - 3.5
		if stem < 2 {
			d *= 4
		}
		c += d * d
	}
	return c
}
