package compare

import (
	"math"

	"entelon/core/compare/match"
	"entelon/core/measure"
	"entelon/core/profile"
)

// Figures of exact runs are no samples: each is what it is, and a difference is real where it is
// larger than what runs of the same program differ by. So there is no test and no interval but
// that.

// VariesOf is by how much the figures of a take differ by themselves in one of its measures; nil
// where it is not of an exact run.
func VariesOf(t *profile.Take, column string) *match.Varies {
	x := t.Facts.Exact
	if x == nil {
		return nil
	}
	k := 0
	switch column {
	case measure.ExactCalls.Name:
		k = 1
	case measure.Instructions.Name:
	default:
		return variesAlike(t, column)
	}
	v := &match.Varies{Whole: float64(x.VariedBy[k]), Self: map[string]float64{}, Other: float64(x.Rest[k]), Once: x.Runs < 2}
	for _, f := range x.Varied {
		v.Self[f.Function] = float64([2]int64{f.Instructions[1] - f.Instructions[0], f.Calls[1] - f.Calls[0]}[k])
	}
	return v
}

// ExactVaries is by how much a figure of an exact run differs by itself, of a take that is known by
// its facts alone: of the whole where function is "", else of what the function costs. Columns
// that were not compared are taken to vary by the share by which instructions do.
func ExactVaries(x *profile.Exact, column, function string, value int64) float64 {
	k := 0
	if column == measure.ExactCalls.Name {
		k = 1
	}
	d, of := x.VariedBy[k], int64(0)
	if len(x.Totals) > 0 {
		of = x.Totals[0]
	}
	if function != "" {
		d = x.Rest[k]
		for _, f := range x.Varied {
			if f.Function == function {
				d, of = [2]int64{f.Instructions[1] - f.Instructions[0], f.Calls[1] - f.Calls[0]}[k], f.Instructions[1]
			}
		}
	}
	if column == measure.Instructions.Name || column == measure.ExactCalls.Name {
		return float64(d)
	}
	return float64(d) / math.Max(1, float64(of)) * float64(value)
}

// variesAlike takes it that other figures of an exact run vary by the share by which instructions
// do, of the whole and of each function.
func variesAlike(t *profile.Take, column string) *match.Varies {
	x, p := t.Facts.Exact, t.Profile
	m, err := p.MeasureNamed(column)
	instructions, err2 := p.MeasureNamed(measure.Instructions.Name)
	if err != nil || err2 != nil {
		return nil
	}
	share := func(part, of int64) float64 { return float64(part) / math.Max(1, float64(of)) }
	self := map[string]int64{}
	for i, s := range p.Samples.Stack {
		self[p.FunctionName(p.FunctionOf(s))] += p.Samples.Values[m][i]
	}
	whole := float64(p.Total(m))
	v := &match.Varies{Whole: share(x.VariedBy[0], p.Total(instructions)) * whole, Self: map[string]float64{}, Other: share(x.Rest[0], p.Total(instructions)) * whole, Once: x.Runs < 2}
	for _, f := range x.Varied {
		v.Self[f.Function] = share(f.Instructions[1]-f.Instructions[0], f.Instructions[1]) * float64(self[f.Function])
	}
	return v
}

// certainBy is by how much figures of both sides vary together, scaled; ok is unset where not
// every run is exact. function is "" for what has no function of its own.
func certainBy(runs [2][]match.Run, by [2][]float64, function string) (within float64, ok bool) {
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

// certain compares two costs that are known but for what they vary by themselves.
func certain(a, b *cost, within float64) Estimate {
	e := Estimate{Baseline: a.mean(), Candidate: b.mean(), P: 1}
	e.Difference = e.Candidate - e.Baseline
	e.Low, e.High = e.Difference-within, e.Difference+within
	if e.Baseline > 0 {
		e.Ratio = e.Candidate / e.Baseline
		e.RatioLow, e.RatioHigh = math.Max(0, e.Ratio-within/e.Baseline), e.Ratio+within/e.Baseline
		e.Seen = within / e.Baseline
	}
	if math.Abs(e.Difference) > within {
		e.P = 0
	}
	return e
}
