package pairing

import (
	"entelon/core/measure"
	"entelon/core/profile"
)

// Measures are those of a collection, each with its first column of the profile.
type Measures struct {
	Chosen  []measure.Choice
	Columns []int
}

// ChooseMeasures gives each measure its columns in the profile.
func ChooseMeasures(set *profile.Settings, b *profile.Builder) (ms Measures, err error) {
	if ms.Chosen, err = measure.ParseAll(set.Measures); err != nil {
		return ms, err
	}
	set.Measures = nil
	for _, m := range ms.Chosen {
		set.Measures = append(set.Measures, m.String())
		ms.Columns = append(ms.Columns, len(b.Profile().Measures))
		for _, c := range m.Columns() {
			b.Column(c)
		}
		if m.Kind == measure.CPU && set.Event == profile.EventCycles {
			b.Column(measure.Cycles)
		}
	}
	return ms, nil
}

// ColumnOf returns the first column of a kind of measure, -1 where it was not
// chosen.
func (ms *Measures) ColumnOf(kind string) int {
	for i, m := range ms.Chosen {
		if m.Kind == kind {
			return ms.Columns[i]
		}
	}
	return -1
}
