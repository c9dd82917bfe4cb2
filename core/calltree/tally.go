package calltree

// tally is what samples add up to.
type tally struct {
	value   int64 // in the measure's unit
	samples int64 // of this measure
}

func (a tally) plus(b tally) tally { return tally{a.value + b.value, a.samples + b.samples} }

// tallies are what samples add up to by leaf: of each leaf, or running, of all leaves
// before each one and of all. Mostly all samples have one value, a clock's period;
// then it is enough to count them, and takes a third of the memory.
type tallies struct {
	samples []uint32
	value   []int64 // nil where all samples have one value
	alike   int64   // which that is
}

func newTallies(n int, alike int64) tallies {
	t := tallies{samples: make([]uint32, n), alike: alike}
	if alike == 0 {
		t.value = make([]int64, n)
	}
	return t
}

// alike returns the one value that samples have, 0 where they have several.
func alike(values []int64) int64 {
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

// at returns the tally of a leaf.
func (t *tallies) at(l int) tally {
	n := int64(t.samples[l])
	if t.value == nil {
		return tally{n * t.alike, n}
	}
	return tally{t.value[l], n}
}

// between returns, of running sums, what the leaves from one to another add up to.
func (t *tallies) between(from, to uint32) tally {
	n := int64(t.samples[to] - t.samples[from])
	if t.value == nil {
		return tally{n * t.alike, n}
	}
	return tally{t.value[to] - t.value[from], n}
}

// set sets the tally of a leaf.
func (t *tallies) set(l int, x tally) {
	t.samples[l] = uint32(x.samples)
	if t.value != nil {
		t.value[l] = x.value
	}
}

// part are those of the leaves from low to high.
func (t *tallies) part(low, high int) tallies {
	out := tallies{samples: t.samples[low:high], alike: t.alike}
	if t.value != nil {
		out.value = t.value[low:high]
	}
	return out
}

// add adds those of as many leaves, times a sign.
func (t *tallies) add(from tallies, sign int64) {
	for k, n := range from.samples {
		t.samples[k] += uint32(sign) * n
	}
	for k, v := range from.value {
		t.value[k] += sign * v
	}
}

// addUp makes them running: each gets all before it, from what is before the first on.
// It returns what all come to.
func (t *tallies) addUp(samples uint32, value int64) (uint32, int64) {
	for k, n := range t.samples {
		samples += n
		t.samples[k] = samples
	}
	for k, v := range t.value {
		value += v
		t.value[k] = value
	}
	return samples, value
}

// addOne adds a sample with a value to a leaf; with 0 it was taken for another measure.
func (t *tallies) addOne(l int, v int64) {
	t.samples[l] += uint32(uint64(v|-v) >> 63)
	if t.value != nil {
		t.value[l] += v
	}
}

// keep empties those of leaves that are not in, of which the first is that of low; nil
// has all of them.
func (t *tallies) keep(in []bool, low int) {
	if in == nil {
		return
	}
	for k := range t.samples {
		if !in[low+k] {
			t.set(k, tally{})
		}
	}
}
