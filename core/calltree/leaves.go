package calltree

import (
	"iter"
	"slices"
	"sync"

	"entelon/core/parallel"
	"entelon/core/profile"
	"entelon/core/scope"
	"entelon/core/tally"
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
	all []tally.Sums // by measure; empty until it is asked for
}

// newLeaves takes the stacks that a group has, in an order by their positions there.
func newLeaves(t *Tree, g *byStack, order []uint32) *leaves {
	x := &leaves{profile: g.profile, owner: t, stacks: make([]profile.StackID, len(order)), rank: make([]uint32, len(g.rank)),
		ordered: slices.IsSorted(g.profile.Samples.Time), all: make([]tally.Sums, len(g.profile.Measures))}
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
func (x *leaves) total(measure int) tally.Sums {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.all[measure].Samples == nil {
		stacks, values := x.profile.Samples.Stack, x.profile.Samples.Values[measure]
		var joining sync.Mutex
		one := tally.Alike(values)
		sum := tally.New(0, one)
		parallel.Pieces(len(stacks), func(pieces iter.Seq2[int, int]) {
			mine := tally.New(len(x.stacks), one)
			for low, high := range pieces {
				if one != 0 {
					for _, s := range stacks[low:high] {
						mine.Samples[x.rank[s]-1]++
					}
					continue
				}
				for i := low; i < high; i++ {
					mine.AddOne(int(x.rank[stacks[i]]-1), values[i])
				}
			}
			joining.Lock()
			defer joining.Unlock()
			if len(sum.Samples) == 0 {
				sum = mine
			} else {
				sum.Add(mine, 1)
			}
		})
		x.all[measure] = sum
	}
	return x.all[measure]
}

// add adds up one measure over the samples that a sieve lets through, by leaf: of
// all before each, and of all.
func (x *leaves) add(measure int, sieve scope.Sieve) tally.Sums {
	if sieve.From > 0 || sieve.To < x.profile.Samples.Len() || sieve.Tests != nil || sieve.Samples != nil {
		return x.sorted().add(measure, sieve)
	}
	all := x.total(measure)
	var in []bool // by leaf; nil: all
	if sieve.Stacks != nil {
		in = mask(x.owner, sieve.Stacks)
	}
	return tally.Running(len(all.Samples), all.Alike, func(low int, out tally.Sums) {
		copy(out.Samples, all.Samples[low:])
		if out.Value != nil {
			copy(out.Value, all.Value[low:])
		}
		out.Keep(in, low)
	})
}
