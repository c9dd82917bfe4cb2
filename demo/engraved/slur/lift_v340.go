//go:build !v350

package slur

import "math"

// lift finds the lowest curve that clears the skyline. The skyline is asked
// once for each point of the slur, whatever number of lifts is tried.
func lift(sky *Skyline, s Slur) float64 {
	var heights [points]float64
	for i := range heights {
		x, _ := s.at((float64(i)+0.5)/points, 0)
		heights[i] = sky.Height(x)
	}
	best, least := 0.0, math.Inf(1)
	for step := range lifts {
		h := 0.5 + float64(step)/4
		c := 0.05 * h * h
		for i, top := range heights {
			_, y := s.at((float64(i)+0.5)/points, h)
			c += excess(y, top)
		}
		if c < least {
			best, least = h, c
		}
	}
	return best
}
