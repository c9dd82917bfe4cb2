package exact

import (
	"cmp"
	"slices"

	"entelon/core/profile"
)

// figures are what a function costs in itself, and how often it is called.
type figures struct{ instructions, calls int64 }

// ofFunctions adds up a profile of an exact run by function.
func ofFunctions(p *profile.Profile) map[string]figures {
	out := map[string]figures{}
	for i, s := range p.Samples.Stack {
		name := p.FunctionName(p.FunctionOf(s))
		x := out[name]
		x.instructions += p.Samples.Values[0][i]
		x.calls += p.Samples.Values[1][i]
		out[name] = x
	}
	return out
}

// Varied finds the functions whose counts differ between runs of the same, by themselves: those
// that wait, look at a clock, collect garbage or choose by chance. The one that differs most is
// first.
func Varied(runs []*profile.Profile) (out []profile.Varied) {
	byRun := make([]map[string]figures, len(runs))
	names := map[string]bool{}
	for i, p := range runs {
		byRun[i] = ofFunctions(p)
		for name := range byRun[i] {
			names[name] = true
		}
	}
	for name := range names {
		v := profile.Varied{Function: name}
		for i, of := range byRun {
			x := of[name]
			if i == 0 {
				v.Instructions, v.Calls = [2]int64{x.instructions, x.instructions}, [2]int64{x.calls, x.calls}
			}
			v.Instructions = [2]int64{min(v.Instructions[0], x.instructions), max(v.Instructions[1], x.instructions)}
			v.Calls = [2]int64{min(v.Calls[0], x.calls), max(v.Calls[1], x.calls)}
		}
		if v.Instructions[0] != v.Instructions[1] || v.Calls[0] != v.Calls[1] {
			out = append(out, v)
		}
	}
	slices.SortFunc(out, func(a, b profile.Varied) int {
		return cmp.Or(cmp.Compare(b.Instructions[1]-b.Instructions[0], a.Instructions[1]-a.Instructions[0]), cmp.Compare(a.Function, b.Function))
	})
	return out
}
