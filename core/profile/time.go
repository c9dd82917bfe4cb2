package profile

// OverTime cuts a duration (in nanoseconds since the take began) into bins of
// equal length and counts the samples of a measure in each, those whose innermost frame is
// the kernel's apart from the others. Samples after the end count in the last
// bin.
func (p *Profile) OverTime(measure int, duration int64, bins int) (user, kernel []int64) {
	user, kernel = make([]int64, bins), make([]int64, bins)
	if duration <= 0 {
		duration = 1
	}
	inKernel := make([]bool, p.Stacks.Len())
	for s := 1; s < len(inKernel); s++ {
		inKernel[s] = p.Functions[p.FunctionOf(StackID(s))].Kind == KindKernel
	}
	values, stacks := p.Samples.Values[measure], p.Samples.Stack
	scale := float64(bins) / float64(duration)
	for i, t := range p.Samples.Time {
		if values[i] == 0 {
			continue
		}
		at := max(0, min(int(float64(t)*scale), bins-1))
		if inKernel[stacks[i]] {
			kernel[at]++
		} else {
			user[at]++
		}
	}
	return user, kernel
}
