// Package tally adds up samples by leaf and keeps running sums, so that what any stretch of leaves
// costs is one subtraction. It has no state; sums over many leaves are made by several goroutines,
// each of which owns its part.
package tally

// Sum is what samples add up to.
type Sum struct {
	Value   int64 // in the measure's unit
	Samples int64 // of this measure
}

// Plus is both together.
func (a Sum) Plus(b Sum) Sum { return Sum{a.Value + b.Value, a.Samples + b.Samples} }

// Sums are what samples add up to by leaf: of each leaf, or running, of all leaves
// before each one and of all. Mostly all samples have one value, a clock's period;
// then it is enough to count them, and takes a third of the memory.
type Sums struct {
	Samples []uint32
	Value   []int64 // nil where all samples have one value
	Alike   int64   // which that is
}

// New makes sums of n leaves; alike is what Alike said of the values.
func New(n int, alike int64) Sums {
	t := Sums{Samples: make([]uint32, n), Alike: alike}
	if alike == 0 {
		t.Value = make([]int64, n)
	}
	return t
}

// Alike returns the one value that samples have, 0 where they have several.
func Alike(values []int64) int64 {
	for _, v := range values {
		if v != values[0] {
			return 0
		}
	}
	if len(values) == 0 {
		return 0
	}
	return values[0]
}

// At returns the tally of a leaf.
func (t *Sums) At(l int) Sum {
	n := int64(t.Samples[l])
	if t.Value == nil {
		return Sum{n * t.Alike, n}
	}
	return Sum{t.Value[l], n}
}

// Between returns, of running sums, what the leaves from one to another add up to.
func (t *Sums) Between(from, to uint32) Sum {
	n := int64(t.Samples[to] - t.Samples[from])
	if t.Value == nil {
		return Sum{n * t.Alike, n}
	}
	return Sum{t.Value[to] - t.Value[from], n}
}

// Set sets the tally of a leaf.
func (t *Sums) Set(l int, x Sum) {
	t.Samples[l] = uint32(x.Samples)
	if t.Value != nil {
		t.Value[l] = x.Value
	}
}

// Part are those of the leaves from low to high.
func (t *Sums) Part(low, high int) Sums {
	out := Sums{Samples: t.Samples[low:high], Alike: t.Alike}
	if t.Value != nil {
		out.Value = t.Value[low:high]
	}
	return out
}

// Add adds those of as many leaves, times a sign.
func (t *Sums) Add(from Sums, sign int64) {
	for k, n := range from.Samples {
		t.Samples[k] += uint32(sign) * n
	}
	for k, v := range from.Value {
		t.Value[k] += sign * v
	}
}

// addUp makes them running: each gets all before it, from what is before the first on.
// It returns what all come to.
func (t *Sums) addUp(samples uint32, value int64) (uint32, int64) {
	for k, n := range t.Samples {
		samples += n
		t.Samples[k] = samples
	}
	for k, v := range t.Value {
		value += v
		t.Value[k] = value
	}
	return samples, value
}

// AddOne adds a sample with a value to a leaf; with 0 it was taken for another measure.
func (t *Sums) AddOne(l int, v int64) {
	t.Samples[l] += uint32(uint64(v|-v) >> 63)
	if t.Value != nil {
		t.Value[l] += v
	}
}

// Keep empties those of leaves that are not in, of which the first is that of low; nil
// has all of them.
func (t *Sums) Keep(in []bool, low int) {
	if in == nil {
		return
	}
	for k := range t.Samples {
		if !in[low+k] {
			t.Set(k, Sum{})
		}
	}
}
