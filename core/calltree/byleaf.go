package calltree

import (
	"slices"
	"sort"
	"sync"

	"entelon/core/profile"
	"entelon/core/scope"
	"entelon/core/tally"
)

// byLeaf are the samples of a profile set for adding up by leaf, which is the
// stack that a sample ends in. They are split by their positions into parts and
// stand in each in the order of their leaves. What all parts before some of them
// add up to is kept, so that samples from one position to another, as those of some
// time are, are a difference of two of these and a few parts at either end.
// Whatever is added up goes through memory from its beginning to its end.
type byLeaf struct {
	profile *profile.Profile
	stacks  []profile.StackID // of the leaves
	begin   []int             // by part: position of its first sample; one more at the end
	leaf    []uint32          // of the samples in their order here
	at      []uint32          // and their positions in the profile
	ordered bool              // samples are in the order of their times
	owner   *Tree             // whose order of leaves it is

	mu  sync.Mutex
	sum []*sums // by measure; nil until it is asked for
	who func() *groups
}

// sums are what the samples of a byLeaf add up to in one measure.
type sums struct {
	value  []int64      // of the samples in their order there; those that were taken for another measure have 0; nil where all are alike
	before []tally.Sums // by part, one more at the end: by leaf, of all parts before it; empty of the first and of those of which it is not kept
	alike  int64        // the value of all samples; 0 where they differ
	step   int          // from one part before which sums are kept to the next
}

const (
	partSize = 400_000 // samples in a part, at least
	maxParts = 16      // a piece of one of ten million samples takes as long to add up as what is kept before it
	keptSums = 4       // parts before which sums are kept, where samples are not alike: they take three times the memory then
)

func partsOf(samples int) int { return min(max(samples/partSize, 1), maxParts) }

// byStack are the stacks that the samples of a profile have, which can be found before
// there is a tree; and, once they are sorted, the samples in parts, in each by their
// stacks.
type byStack struct {
	profile *profile.Profile
	stacks  []profile.StackID // that samples have, ascending
	rank    []uint32          // by stack: its position in stacks, and one more; 0 where it is not there
	begin   []int             // as in byLeaf
	at      []uint32          // as in byLeaf
	of      [][]uint32        // by part and position in stacks: where its samples begin in at; one more at the end
}

// bucket is how many stacks are sorted at once, as a power of two: so many that
// what is counted of them stays near the processor.
const bucket = 15

// groupSamples finds the stacks that samples have.
func groupSamples(p *profile.Profile) *byStack {
	g := &byStack{profile: p, rank: make([]uint32, p.Stacks.Len())}
	for _, s := range p.Samples.Stack {
		g.rank[s] = 1
	}
	for s, is := range g.rank {
		if is != 0 {
			g.stacks = append(g.stacks, profile.StackID(s))
			g.rank[s] = uint32(len(g.stacks))
		}
	}
	return g
}

// sort sets the samples in so many parts by their stacks.
func (g *byStack) sort(parts int) *byStack {
	n := g.profile.Samples.Len()
	g.begin, g.at, g.of = make([]int, parts+1), make([]uint32, n), make([][]uint32, parts)
	for i := range parts { // one after the other: it is mostly done while somebody reads
		g.begin[i+1] = n * (i + 1) / parts
		g.sortPart(i)
	}
	return g
}

// sortPart sorts a part in two steps, first by ranges of stacks and then within each:
// in one, every step would be to another place in a large memory.
func (g *byStack) sortPart(part int) {
	low, high := g.begin[part], g.begin[part+1]
	stacks := g.profile.Samples.Stack[low:high]
	begin := make([]uint32, len(g.rank)>>bucket+2) // of each range
	for _, s := range stacks {
		begin[s>>bucket+1]++
	}
	for i := range len(begin) - 1 {
		begin[i+1] += begin[i]
	}
	type pair struct {
		stack profile.StackID
		at    uint32
	}
	pairs, next := make([]pair, len(stacks)), slices.Clone(begin)
	for i, s := range stacks {
		to := &next[s>>bucket]
		pairs[*to] = pair{s, uint32(low + i)}
		*to++
	}
	of := make([]uint32, 0, len(g.stacks)+1)
	next = make([]uint32, 1<<bucket) // by stack: how many samples have it, then where the next of them goes
	for r := range len(begin) - 1 {
		here := pairs[begin[r]:begin[r+1]]
		clear(next)
		for _, x := range here {
			next[x.stack&(1<<bucket-1)]++
		}
		to := uint32(low) + begin[r]
		for len(of) < len(g.stacks) && int(g.stacks[len(of)]>>bucket) == r {
			of = append(of, to)
			n := &next[g.stacks[len(of)-1]&(1<<bucket-1)]
			*n, to = to, to+*n
		}
		for _, x := range here {
			to := &next[x.stack&(1<<bucket-1)]
			g.at[*to] = x.at
			*to++
		}
	}
	g.of[part] = append(of, uint32(high))
}

// inOrder sets the samples in the order of leaves, given by their positions in
// g.stacks.
func (g *byStack) inOrder(leaves []uint32) *byLeaf {
	n := len(g.at)
	b := &byLeaf{profile: g.profile, stacks: make([]profile.StackID, len(leaves)), sum: make([]*sums, len(g.profile.Measures)),
		begin: g.begin, leaf: make([]uint32, n), at: make([]uint32, n)}
	for l, k := range leaves {
		b.stacks[l] = g.stacks[k]
	}
	var all sync.WaitGroup
	for part, of := range g.of {
		all.Go(func() {
			to := g.begin[part]
			for l, k := range leaves {
				for _, i := range g.at[of[k]:of[k+1]] {
					b.at[to], b.leaf[to] = i, uint32(l)
					to++
				}
			}
		})
	}
	all.Wait()
	b.who = sync.OnceValue(b.groups)
	return b
}

// of returns what there is to know of a measure.
func (b *byLeaf) of(measure int) *sums {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.sum[measure] == nil {
		parts := len(b.begin) - 1
		from := b.profile.Samples.Values[measure]
		x := &sums{before: make([]tally.Sums, parts+1), alike: tally.Alike(from), step: 1}
		if x.alike == 0 {
			x.value, x.step = make([]int64, len(b.at)), (parts+keptSums-1)/keptSums
		}
		var all sync.WaitGroup
		for low := 0; low < parts; low = min(low+x.step, parts) {
			high := min(low+x.step, parts)
			all.Go(func() {
				sum := tally.New(len(b.stacks), x.alike)
				for j := b.begin[low]; j < b.begin[high]; j++ {
					v := x.alike
					if v == 0 {
						v = from[b.at[j]]
						x.value[j] = v
					}
					sum.AddOne(int(b.leaf[j]), v)
				}
				x.before[high] = sum
			})
		}
		all.Wait()
		for low, high := 0, 0; low < parts; low = high {
			high = min(low+x.step, parts)
			if low > 0 {
				x.before[high].Add(x.before[low], 1)
			}
		}
		b.sum[measure] = x
	}
	return b.sum[measure]
}

// add adds up one measure over the samples that a sieve lets through, by leaf: of
// all before each, and of all.
func (b *byLeaf) add(measure int, sieve scope.Sieve) tally.Sums {
	x := b.of(measure)
	var in []bool // by leaf; nil: all
	if sieve.Stacks != nil {
		in = mask(b.owner, sieve.Stacks)
	}
	each := b.chosen(sieve)
	if first, last := b.partOf(sieve.From), b.partOf(sieve.To); each == nil && last-first < 2 {
		each = &chosen{sieve: sieve} // fewer than it takes to find what is before them
	}
	return tally.Running(len(b.stacks), x.alike, func(low int, out tally.Sums) {
		if each != nil {
			b.addEach(x, each, low, out)
		} else {
			b.addBefore(x, sieve.To, low, out, 1)
			b.addBefore(x, sieve.From, low, out, -1)
		}
		out.Keep(in, low)
	})
}

// partOf returns in which part a position is.
func (b *byLeaf) partOf(position int) int { return sort.SearchInts(b.begin, position+1) - 1 }

// addBefore adds, times a sign, what the samples before a position are to some
// leaves: what is kept nearest to it, and the samples from there to it or from it to
// there.
func (b *byLeaf) addBefore(x *sums, position, low int, out tally.Sums, sign int64) {
	part := b.partOf(position)
	kept := part / x.step * x.step
	if above := min(kept+x.step, len(b.begin)-1); b.begin[above]-position < position-b.begin[kept] {
		kept = above
	}
	if sum := x.before[kept]; sum.Samples != nil {
		out.Add(sum.Part(low, low+len(out.Samples)), sign)
	}
	if at := b.begin[kept]; at <= position {
		b.addBetween(x, at, position, low, out, sign)
	} else {
		b.addBetween(x, position, at, low, out, -sign)
	}
}

// addBetween adds, times a sign, what the samples from one position to another are
// to some leaves.
func (b *byLeaf) addBetween(x *sums, from, to, low int, out tally.Sums, sign int64) {
	for part := range len(b.begin) - 1 {
		if b.begin[part+1] <= from || b.begin[part] >= to {
			continue
		}
		begin, end := b.placesOf(part, low, low+len(out.Samples))
		at, leaf := b.at[begin:end], b.leaf[begin:end]
		// Which ones count cannot be foreseen, so that it goes without branches.
		if x.alike != 0 {
			for j, i := range at {
				out.Samples[int(leaf[j])-low] += uint32(sign * inside(i, from, to))
			}
			continue
		}
		for j, v := range x.value[begin:end] {
			v &= -inside(at[j], from, to)
			l := int(leaf[j]) - low
			out.Value[l] += sign * v
			out.Samples[l] += uint32(sign * int64(uint64(v|-v)>>63))
		}
	}
}

// inside is 1 for positions from low on and below high, else 0.
func inside(i uint32, low, high int) int64 {
	// Positions are far from where the sign is.
	return int64((uint64(i) - uint64(high)) >> 63 &^ ((uint64(i) - uint64(low)) >> 63))
}

// placesOf returns where the samples of some leaves begin and end in a part.
func (b *byLeaf) placesOf(part, low, high int) (from, to int) {
	begin := b.begin[part]
	of := b.leaf[begin:b.begin[part+1]]
	from, _ = slices.BinarySearch(of, uint32(low))
	to, _ = slices.BinarySearch(of[from:], uint32(high))
	return begin + from, begin + from + to
}
