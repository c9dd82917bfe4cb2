//go:build v350 && !v351

package slur

import "math"

// lift finds the lowest curve that clears the skyline. It looks at the curve
// at each lift anew, so that a later change can let the ends of a slur move.
func lift(sky *Skyline, s Slur) float64 {
	best, least := 0.0, math.Inf(1)
	for step := range lifts {
		h := 0.5 + float64(step)/4
		if c := 0.05*h*h + clearance(sky, s, h); c < least {
			best, least = h, c
		}
	}
	return best
}

// clearance asks the skyline at every point of the curve.
func clearance(sky *Skyline, s Slur, h float64) float64 {
	c := 0.0
	for i := range points {
		x, y := s.at((float64(i)+0.5)/points, h)
		c += excess(y, sky.Height(x))
	}
	return c
}
