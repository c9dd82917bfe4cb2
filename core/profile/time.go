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
	for i, t := range p.Samples.Time {
		if p.Samples.Values[measure][i] == 0 {
			continue
		}
		at := min(int(float64(t)/float64(duration)*float64(bins)), bins-1)
		if s := p.Samples.Stack[i]; s != 0 && p.Functions[p.FunctionOf(s)].Kind == KindKernel {
			kernel[max(0, at)]++
		} else {
			user[max(0, at)]++
		}
	}
	return user, kernel
}
