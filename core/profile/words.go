package profile

import (
	"fmt"
	"strings"

	"entelon/core/measure"
)

// Words returns how a measure is spoken of.
func (p *Profile) Words(i int) measure.Column {
	m := p.Measures[i]
	c := measure.Kept(p.Strings[m.Name], p.Strings[m.Unit], m.Combine)
	c.Counted, c.Time = m.Counted, m.Time
	return c
}

// MeasureNamed returns the position of a measure; "" is the first one.
func (p *Profile) MeasureNamed(name string) (int, error) {
	if name == "" && len(p.Measures) > 0 {
		return 0, nil
	}
	var known []string
	for i, m := range p.Measures {
		if p.Strings[m.Name] == name {
			return i, nil
		}
		known = append(known, p.Strings[m.Name])
	}
	return 0, fmt.Errorf("the take has no measure %q; it has %s", name, strings.Join(known, ", "))
}
