//go:build v351

package slur

import "math"

// lift finds the lowest curve that clears the skyline, which is asked once for
// each point of the slur. The curve is still looked at anew at each lift.
func lift(sky *Skyline, s Slur) float64 {
	var heights [points]float64
	for i := range heights {
		x, _ := s.at((float64(i)+0.5)/points, 0)
		heights[i] = sky.Height(x)
	}
	best, least := 0.0, math.Inf(1)
	for step := range lifts {
		h := 0.5 + float64(step)/4
		if c := 0.05*h*h + clearance(&heights, s, h); c < least {
			best, least = h, c
		}
	}
	return best
}

// clearance is how far a curve goes into what it is to clear.
func clearance(heights *[points]float64, s Slur, h float64) float64 {
	c := 0.0
	for i, top := range heights {
		_, y := s.at((float64(i)+0.5)/points, h)
		c += excess(y, top)
	}
	return c
}
