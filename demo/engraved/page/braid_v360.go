//go:build v360

package page

import (
	"math"

	"entelon/demo/engraved/spacing"
)

const (
	strands = 3
	// turn is how far along the line a strand needs to go around once, and step
	// how finely it is drawn.
	turn = 6.0
	step = 2.4
)

// braid draws the border of a line: strands that wind around each other, drawn
// where they are in front.
func (p *pen) braid(l spacing.Line) {
	for x := 0.0; x < l.Width; x += step {
		for s := range strands {
			phase := 2 * math.Pi * (x/turn + float64(s)/strands)
			if math.Cos(phase) < -0.5 {
				continue // behind the others
			}
			p.point('L', x, -8+0.8*math.Sin(phase))
		}
	}
}
