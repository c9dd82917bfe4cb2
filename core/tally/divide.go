package tally

// Over divides running sums, so that the parts still come to the whole.
func (t Sums) Over(divisor int64) Sums {
	if divisor <= 1 {
		return t
	}
	out := Sums{Samples: t.Samples, Value: make([]int64, len(t.Samples))}
	for i := range out.Value {
		v := int64(t.Samples[i]) * t.Alike
		if t.Value != nil {
			v = t.Value[i]
		}
		out.Value[i] = Floor(v, divisor)
	}
	return out
}

// Floor divides towards minus infinity, so that what grows does not shrink by it.
func Floor(a, b int64) int64 {
	q := a / b
	if a%b != 0 && (a < 0) != (b < 0) {
		q--
	}
	return q
}
