package calltree

import (
	"entelon/core/parallel"
	"entelon/core/profile"
	"entelon/core/scope"
	"entelon/core/tally"
)

// groups are samples by who ran: each thread with each set of labels that it gave.
type groups struct {
	of     []uint32 // by the order of samples in a byLeaf
	thread []profile.ThreadID
	labels []profile.LabelSetID
}

// groups finds them. It goes through memory out of order, and is made once.
func (b *byLeaf) groups() *groups {
	p := b.profile
	g := &groups{of: make([]uint32, len(b.at))}
	sets := max(1, p.LabelSets.Len())
	group := map[uint64]uint32{}
	at := make([]uint32, len(p.Samples.Thread)) // in their own order, where neighbours are of few groups
	last := make([]uint64, len(p.Threads))      // by thread: the group met last, and one more
	for i, t := range p.Samples.Thread {
		set := profile.LabelSetID(0)
		if p.Samples.Labels != nil {
			set = p.Samples.Labels[i]
		}
		if x := last[t]; x != 0 && g.labels[x-1] == set {
			at[i] = uint32(x - 1)
			continue
		}
		key := uint64(t)*uint64(sets) + uint64(set)
		k, known := group[key]
		if !known {
			k = uint32(len(g.thread))
			group[key] = k
			g.thread, g.labels = append(g.thread, t), append(g.labels, set)
		}
		at[i], last[t] = k, uint64(k)+1
	}
	parallel.Each(len(b.at), func(low, high int) {
		for j := low; j < high; j++ {
			g.of[j] = at[b.at[j]]
		}
	})
	return g
}

// chosen are the parts of a sieve that are asked of each sample, for the samples
// in the order of a byLeaf.
type chosen struct {
	sieve scope.Sieve
	tests []*test
}

// test is a scope.Test with what it takes to ask many samples at once.
type test struct {
	*scope.Test
	in     []bool  // of stacks: by leaf
	who    []uint8 // by group: 1 where it counts
	groups *groups
	value  *sums // of a measure
	parts  []*test
}

// chosen returns nil where no sample is asked by itself.
func (b *byLeaf) chosen(sieve scope.Sieve) *chosen {
	if sieve.Tests == nil && sieve.Samples == nil {
		return nil
	}
	return &chosen{sieve, b.tests(sieve.Tests)}
}

func (b *byLeaf) tests(from []*scope.Test) (out []*test) {
	for _, x := range from {
		c := &test{Test: x, parts: b.tests(x.Parts)}
		switch {
		case x.Stack != nil:
			c.in = mask(b.owner, x)
		case x.Who != nil:
			c.groups = b.who()
			c.who = make([]uint8, len(c.groups.thread))
			for k := range c.who {
				c.who[k] = bit(x.Who(c.groups.thread[k], c.groups.labels[k]))
			}
		case x.Amount != nil:
			c.value = b.of(x.Amount.Measure)
		}
		out = append(out, c)
	}
	return out
}

func bit(is bool) uint8 {
	if is {
		return 1
	}
	return 0
}

// block is how many samples are asked at once: each part of a sieve goes over all
// of them before the next one does, so that none of it branches.
const block = 1 << 10

// keep sets of the samples from from on whether they count.
func (c *chosen) keep(b *byLeaf, from int, keep []uint8) {
	tests := c.tests
	switch whole := c.sieve.From == 0 && c.sieve.To == len(b.at); {
	case !whole:
		within(b, from, keep, c.sieve.From, c.sieve.To)
	case len(tests) > 0:
		tests[0].pass(b, from, keep)
		tests = tests[1:]
	default:
		for k := range keep {
			keep[k] = 1
		}
	}
	for _, x := range tests {
		x.keep(b, from, keep)
	}
	if c.sieve.Samples != nil {
		for k, i := range b.at[from : from+len(keep)] {
			keep[k] &= bit(c.sieve.Samples[i])
		}
	}
}

// within sets 1 for positions from low on and below high.
func within(b *byLeaf, from int, keep []uint8, low, high int) {
	for k, i := range b.at[from : from+len(keep)] {
		keep[k] = uint8(inside(i, low, high))
	}
}

// keep leaves 1 for the samples that pass the test.
func (x *test) keep(b *byLeaf, from int, keep []uint8) {
	var own [block]uint8
	passed := own[:len(keep)]
	x.pass(b, from, passed)
	for k, is := range passed {
		keep[k] &= is
	}
}

// pass sets 1 for the samples that pass the test.
func (x *test) pass(b *byLeaf, from int, passed []uint8) {
	switch to := from + len(passed); {
	case x.in != nil:
		for k, l := range b.leaf[from:to] {
			passed[k] = bit(x.in[l])
		}
	case x.who != nil:
		for k, g := range x.groups.of[from:to] {
			passed[k] = x.who[g]
		}
	case x.Amount != nil:
		if v := x.value.alike; v != 0 {
			for k := range passed {
				passed[k] = bit(x.Amount.Holds(v))
			}
			break
		}
		low, high, none := x.Amount.From, x.Amount.To, bit(x.Amount.None)
		for k, v := range x.value.value[from:to] {
			passed[k] = bit(v >= low) & bit(v <= high) & (bit(v != 0) | none)
		}
	case x.Time != nil && b.ordered:
		within(b, from, passed, x.Time.First, x.Time.Last)
	case x.Time != nil:
		for k, i := range b.at[from:to] {
			passed[k] = bit(x.Holds(b.profile, int(i)))
		}
	default:
		// Any of them is none of their opposites.
		for k := range passed {
			passed[k] = 1
		}
		for _, p := range x.parts {
			if !x.Any {
				p.keep(b, from, passed)
				continue
			}
			var other [block]uint8
			one := other[:len(passed)]
			p.pass(b, from, one)
			for k, is := range one {
				passed[k] &= 1 - is
			}
		}
		if x.Any {
			flip(passed)
		}
	}
	if x.Not && (x.Time == nil || b.ordered) { // else Holds has turned it round
		flip(passed)
	}
}

func flip(bits []uint8) {
	for k := range bits {
		bits[k] ^= 1
	}
}

// addEach adds to some leaves the samples that count, one by one.
func (b *byLeaf) addEach(x *sums, c *chosen, low int, out tally.Sums) {
	var asked [block]uint8
	for part := range len(b.begin) - 1 {
		if b.begin[part+1] <= c.sieve.From || b.begin[part] >= c.sieve.To {
			continue
		}
		from, to := b.placesOf(part, low, low+len(out.Samples))
		for ; from < to; from += block {
			keep := asked[:min(block, to-from)]
			c.keep(b, from, keep)
			leaf := b.leaf[from : from+len(keep)]
			if x.alike != 0 {
				for k, is := range keep {
					out.Samples[int(leaf[k])-low] += uint32(is)
				}
				continue
			}
			for k, v := range x.value[from : from+len(keep)] {
				v &= -int64(keep[k])
				l := int(leaf[k]) - low
				out.Value[l] += v
				out.Samples[l] += uint32(uint64(v|-v) >> 63)
			}
		}
	}
}

// eachOf calls do for the samples of a measure that a sieve lets through, with
// the thread that ran and the value.
func (b *byLeaf) eachOf(measure int, sieve scope.Sieve, do func(profile.ThreadID, int64)) {
	x, g := b.of(measure), b.who()
	var in []bool
	if sieve.Stacks != nil {
		in = mask(b.owner, sieve.Stacks)
	}
	c := b.chosen(sieve)
	if c == nil {
		c = &chosen{sieve: sieve}
	}
	var asked [block]uint8
	for from := 0; from < len(b.at); from += block {
		keep := asked[:min(block, len(b.at)-from)]
		c.keep(b, from, keep)
		for k, is := range keep {
			j, v := from+k, x.alike
			if v == 0 {
				v = x.value[j]
			}
			if is != 0 && v != 0 && (in == nil || in[b.leaf[j]]) {
				do(g.thread[g.of[j]], v)
			}
		}
	}
}
