package match

import (
	"math"

	"entelon/core/measure"
	"entelon/core/profile"
)

// Figures of exact runs are no samples: each is what it is, and a difference is real where it is
// larger than what runs of the same program differ by. So there is no test and no interval but
// that.

// VariesOf is by how much the figures of a take differ by themselves in one of its measures; nil
// where it is not of an exact run.
func VariesOf(t *profile.Take, column string) *Varies {
	x, p := t.Facts.Exact, t.Profile
	if x == nil {
		return nil
	}
	whole, self := int64(0), map[string]int64{}
	if _, compared := comparedIn(column); !compared {
		m, err := p.MeasureNamed(column)
		if err != nil {
			return nil
		}
		whole = p.Total(m)
		for i, s := range p.Samples.Stack {
			self[p.FunctionName(p.FunctionOf(s))] += p.Samples.Values[m][i]
		}
	}
	v := &Varies{Whole: ExactVaries(x, column, "", whole), Other: variation{x.Rest, x.Totals}.of(column, whole), Self: map[string]float64{}, Once: x.Runs < 2}
	for _, f := range x.Varied {
		v.Self[f.Function] = ExactVaries(x, column, f.Function, self[f.Function])
	}
	return v
}

// ExactVaries is by how much a figure of an exact run differs by itself, of a take that is known by
// its facts alone: of the whole where function is "", else of what the function costs. Columns
// that were not compared are taken to vary by the share by which instructions do.
func ExactVaries(x *profile.Exact, column, function string, value int64) float64 {
	if function == "" {
		return variation{x.VariedBy, x.Totals}.of(column, value)
	}
	for _, f := range x.Varied {
		if f.Function == function {
			return variation{[2]int64{f.Instructions[1] - f.Instructions[0], f.Calls[1] - f.Calls[0]}, f.Instructions[1:]}.of(column, value)
		}
	}
	return variation{x.Rest, x.Totals}.of(column, value)
}

// comparedIn is which of the two columns that runs are compared by it is: instructions and calls.
func comparedIn(column string) (k int, ok bool) {
	switch column {
	case measure.Instructions.Name:
		return 0, true
	case measure.ExactCalls.Name:
		return 1, true
	}
	return 0, false
}

// variation is by how many instructions and calls something differed, and how many instructions,
// first of all, it had.
type variation struct {
	by    [2]int64
	whole []int64
}

// of is by how much a value of a column differs, which varies by the share by which instructions
// do where it was not compared itself.
func (v variation) of(column string, value int64) float64 {
	k, compared := comparedIn(column)
	if compared {
		return float64(v.by[k])
	}
	whole := int64(1)
	if len(v.whole) > 0 {
		whole = max(1, v.whole[0])
	}
	return float64(v.by[0]) / float64(whole) * float64(value)
}

// VariesBy is by how much figures of both sides vary together, scaled; ok is unset where not
// every run is exact. function is "" for what has no function of its own.
func VariesBy(runs [2][]Run, by [2][]float64, function string) (within float64, ok bool) {
	for side := range runs {
		most := 0.0
		for i := range runs[side] {
			v := runs[side][i].Varies
			if v == nil {
				return 0, false
			}
			d := v.Whole
			if function != "" {
				var known bool
				if d, known = v.Self[function]; !known {
					d = v.Other
				}
			}
			most = math.Max(most, d/by[side][i])
		}
		within += most
	}
	return within, true
}
