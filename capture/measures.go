package capture

import (
	"entelon/core/measure"
	"entelon/core/profile"
)

// measures are those of a collection, each with its first column of the profile.
type measures struct {
	chosen  []measure.Choice
	columns []int
}

// chooseMeasures gives each measure its columns in the profile.
func chooseMeasures(set *profile.Settings, b *profile.Builder) (ms measures, err error) {
	if ms.chosen, err = measure.ParseAll(set.Measures); err != nil {
		return ms, err
	}
	set.Measures = nil
	for _, m := range ms.chosen {
		set.Measures = append(set.Measures, m.String())
		ms.columns = append(ms.columns, len(b.Profile().Measures))
		for _, c := range m.Columns() {
			b.Column(c)
		}
		if m.Kind == measure.CPU && set.Event == EventCycles {
			b.Column(measure.Cycles)
		}
	}
	return ms, nil
}

// columnOf returns the first column of a kind of measure, -1 where it was not
// chosen.
func (ms *measures) columnOf(kind string) int {
	for i, m := range ms.chosen {
		if m.Kind == kind {
			return ms.columns[i]
		}
	}
	return -1
}
