package profile

import (
	"errors"

	"entelon/core/measure"
)

// ErrFolded is what is said where times are asked for of a profile that has none.
var ErrFolded = errors.New("its samples were added up over time and have no times")

// Folded reports whether samples have no times: they were added up.
func (p *Profile) Folded() bool { return p.Samples.Time == nil && p.Samples.Len() > 0 }

// OverTime cuts a duration (in nanoseconds since the take began) into bins of equal
// length. Of a sum it counts the samples of the measure in each, those whose
// innermost frame is the kernel's apart from the others; samples after the end count
// in the last bin. A level is given in its own unit: that of the last snapshot until
// the bin's end, all of it in the first result. Its error is ErrFolded.
func (p *Profile) OverTime(m int, duration int64, bins int) (user, kernel []int64, err error) {
	user, kernel = make([]int64, bins), make([]int64, bins)
	if p.Folded() {
		return nil, nil, ErrFolded
	}
	if duration <= 0 {
		duration = 1
	}
	scale := float64(bins) / float64(duration)
	bin := func(t int64) int { return max(0, min(int(float64(t)*scale), bins-1)) }
	if p.Measures[m].Combine == measure.Level {
		all := p.Snapshots(m, 0, p.Samples.Len(), nil)
		var held int64
		for i := range user {
			for len(all) > 0 && bin(all[0].Time) <= i {
				held, all = all[0].Total, all[1:]
			}
			user[i] = held
		}
		return user, kernel, nil
	}
	inKernel := make([]bool, p.Stacks.Len())
	for s := 1; s < len(inKernel); s++ {
		inKernel[s] = p.Functions[p.FunctionOf(StackID(s))].Kind == KindKernel
	}
	values, stacks := p.Samples.Values[m], p.Samples.Stack
	for i, t := range p.Samples.Time {
		switch at := bin(t); {
		case values[i] == 0:
		case inKernel[stacks[i]]:
			kernel[at]++
		default:
			user[at]++
		}
	}
	return user, kernel, nil
}
