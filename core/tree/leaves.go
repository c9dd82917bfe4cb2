package tree

import (
	"iter"
	"slices"
	"sync"

	"entelon/core/profile"
	"entelon/core/scope"
)

// leaves are the stacks that samples end in, in the order of a tree, with what all
// samples add up to on each. What more is asked of samples, such as of some time or
// some thread, needs them set in that order, which takes several times as long and
// is done when it is first asked for.
type leaves struct {
	profile *profile.Profile
	stacks  []profile.StackID
	rank    []uint32 // by stack: its position in stacks, and one more; 0 where no sample ends in it
	ordered bool     // samples are in the order of their times
	owner   *Tree    // whose order it is
	sorted  func() *byLeaf

	mu  sync.Mutex
	all [][]tally // by measure; nil until it is asked for
}

// newLeaves takes the stacks that a group has, in an order by their positions there.
func newLeaves(t *Tree, g *byStack, order []uint32) *leaves {
	x := &leaves{profile: g.profile, owner: t, stacks: make([]profile.StackID, len(order)), rank: make([]uint32, len(g.rank)),
		ordered: slices.IsSorted(g.profile.Samples.Time), all: make([][]tally, len(g.profile.Measures))}
	for l, k := range order {
		x.stacks[l] = g.stacks[k]
		x.rank[g.stacks[k]] = uint32(l) + 1
	}
	x.sorted = sync.OnceValue(func() *byLeaf {
		b := g.sort(partsOf(g.profile.Samples.Len())).inOrder(order)
		b.ordered, b.owner = x.ordered, t
		g, order = nil, nil // they are not needed any more
		return b
	})
	return x
}

// total returns by leaf what all samples add up to.
func (x *leaves) total(measure int) []tally {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.all[measure] == nil {
		stacks, values := x.profile.Samples.Stack, x.profile.Samples.Values[measure]
		var joining sync.Mutex
		var sum []tally
		shared(len(stacks), func(pieces iter.Seq2[int, int]) {
			mine := make([]tally, len(x.stacks))
			for low, high := range pieces {
				for i := low; i < high; i++ {
					v := values[i]
					s := &mine[x.rank[stacks[i]]-1]
					s.value += v
					s.samples += int64(uint64(v|-v) >> 63)
				}
			}
			joining.Lock()
			defer joining.Unlock()
			if sum == nil {
				sum = mine
				return
			}
			for l, m := range mine {
				sum[l] = sum[l].plus(m)
			}
		})
		x.all[measure] = sum
	}
	return x.all[measure]
}

// add adds up one measure over the samples that a sieve lets through, by leaf: of
// all before each, and of all.
func (x *leaves) add(measure int, sieve scope.Sieve) []tally {
	if sieve.From > 0 || sieve.To < x.profile.Samples.Len() || sieve.Tests != nil || sieve.Samples != nil {
		return x.sorted().add(measure, sieve)
	}
	all := x.total(measure)
	var in []bool // by leaf; nil: all
	if sieve.Stacks != nil {
		in = x.owner.mask(sieve.Stacks)
	}
	return running(len(all), func(low int, out []tally) {
		copy(out, all[low:])
		for k := range out {
			if in != nil && !in[low+k] {
				out[k] = tally{}
			}
		}
	})
}
