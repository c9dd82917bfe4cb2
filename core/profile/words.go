package profile

import (
	"fmt"
	"strings"

	"entelon/core/measure"
)

// Words returns how a measure is spoken of. The unit, and whether every event is in
// it, are the profile's; the label is the table's, and says of a level which of its
// values over time is meant where nothing else is asked for.
func (p *Profile) Words(i int) measure.Column {
	m := p.Measures[i]
	c, _ := measure.Named(p.Strings[m.Name])
	c.Unit, c.Combine, c.Counted, c.Time = p.Strings[m.Unit], m.Combine, m.Counted, m.Time
	if c.Combine == measure.Level {
		c.Label += " " + measure.Last.Words()
	}
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
