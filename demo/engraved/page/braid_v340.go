//go:build !v360

package page

import "entelon/demo/engraved/spacing"

// braid draws the border of a line: there is none.
func (p *pen) braid(spacing.Line) {}
