package tree

import (
	"slices"
	"sync"

	"entelon/core/profile"
	"entelon/core/scope"
)

// byStack are the samples of a profile grouped by their stacks, in the order of
// their positions within each: adding them up by stack goes through memory from
// its beginning to its end, however many stacks there are.
type byStack struct {
	profile *profile.Profile
	stacks  []profile.StackID // that samples have, ascending
	begin   []uint32          // by position in stacks: where its samples begin; one more at the end
	sample  []uint32          // positions of samples in the profile
	ordered bool              // samples are in the order of their times

	mu  sync.Mutex
	sum []*sums // by measure; nil until it is asked for
}

// sums are what the samples of a byStack add up to in one measure.
type sums struct {
	value []int64  // running in the order of byStack.sample: of all before each, and of all
	count []uint32 // the same of samples that were taken for this measure; nil where all were
	whole []tally  // of each stack
}

// between adds up the samples from one position to another in byStack.sample.
func (x *sums) between(low, high uint32) tally {
	n := int64(high - low)
	if x.count != nil {
		n = int64(x.count[high] - x.count[low])
	}
	return tally{x.value[high] - x.value[low], n}
}

// bucket is how many stacks are sorted at once, as a power of two: so many that
// what is counted of them stays near the processor.
const bucket = 15

// groupSamples sorts in two steps, first by ranges of stacks and then within
// each: in one, every step would be to another place in a large memory.
func groupSamples(p *profile.Profile) *byStack {
	of := p.Samples.Stack
	b := &byStack{profile: p, sum: make([]*sums, len(p.Measures)), ordered: slices.IsSorted(p.Samples.Time)}
	begin := make([]uint32, p.Stacks.Len()>>bucket+2) // of each range
	for _, s := range of {
		begin[s>>bucket+1]++
	}
	for i := range len(begin) - 1 {
		begin[i+1] += begin[i]
	}
	type pair struct {
		stack profile.StackID
		at    uint32
	}
	pairs, next := make([]pair, len(of)), slices.Clone(begin)
	for i, s := range of {
		to := &next[s>>bucket]
		pairs[*to] = pair{s, uint32(i)}
		*to++
	}
	b.sample = make([]uint32, len(of))
	used := min(len(of), p.Stacks.Len())
	b.stacks, b.begin = make([]profile.StackID, 0, used), make([]uint32, 0, used+1)
	at := make([]uint32, 1<<bucket) // by stack: how many samples have it, then where the next of them goes
	for r := range len(begin) - 1 {
		here := pairs[begin[r]:begin[r+1]]
		clear(at)
		for _, x := range here {
			at[x.stack&(1<<bucket-1)]++
		}
		sum := begin[r]
		for i, n := range at {
			if n > 0 {
				b.stacks, b.begin = append(b.stacks, profile.StackID(r<<bucket+i)), append(b.begin, sum)
				at[i] = sum
				sum += n
			}
		}
		for _, x := range here {
			to := &at[x.stack&(1<<bucket-1)]
			b.sample[*to] = x.at
			*to++
		}
	}
	b.begin = append(b.begin, uint32(len(of)))
	return b
}

// of returns what there is to know of a measure.
func (b *byStack) of(measure int) *sums {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.sum[measure] == nil {
		from := b.profile.Samples.Values[measure]
		x := &sums{value: make([]int64, len(b.sample)+1), whole: make([]tally, len(b.stacks))}
		sum, others := int64(0), 0
		for j, i := range b.sample {
			x.value[j] = sum
			v := from[i]
			sum += v
			if v == 0 { // it was taken for another measure
				others++
			}
		}
		x.value[len(b.sample)] = sum
		if others > 0 {
			x.count = make([]uint32, len(b.sample)+1)
			n := uint32(0)
			for j, i := range b.sample {
				x.count[j] = n
				if from[i] != 0 {
					n++
				}
			}
			x.count[len(b.sample)] = n
		}
		for k := range b.stacks {
			x.whole[k] = x.between(b.begin[k], b.begin[k+1])
		}
		b.sum[measure] = x
	}
	return b.sum[measure]
}

// add adds up one measure over the samples that a sieve lets through, by
// position in b.stacks. The result must not be changed.
func (b *byStack) add(measure int, sieve scope.Sieve) []tally {
	x := b.of(measure)
	every := sieve.Samples == nil && sieve.From == 0 && sieve.To == len(b.sample)
	if every && sieve.Stack == nil {
		return x.whole
	}
	var in []bool // by position in b.stacks; nil: all
	if sieve.Stack != nil {
		in = make([]bool, len(b.stacks))
		for k, s := range b.stacks {
			in[k] = sieve.Stack(s)
		}
	}
	out := make([]tally, len(b.stacks))
	parallel(len(b.stacks), func(low, high int) {
		for k := low; k < high; k++ {
			switch {
			case in != nil && !in[k]:
			case every:
				out[k] = x.whole[k]
			case sieve.Samples == nil:
				begin, end := b.begin[k], b.begin[k+1]
				at := b.sample[begin:end]
				out[k] = x.between(begin+before(at, uint32(sieve.From)), begin+before(at, uint32(sieve.To)))
			default:
				for j := b.begin[k]; j < b.begin[k+1]; j++ {
					if i := int(b.sample[j]); i >= sieve.From && i < sieve.To && sieve.Samples[i] {
						one := x.between(j, j+1)
						out[k].value += one.value
						out[k].samples += one.samples
					}
				}
			}
		}
	})
	return out
}

// few is up to how many positions are counted and not searched.
const few = 12

// before returns how many of ascending positions are before one. Which are
// cannot be foreseen, so that counting does without branches.
func before(at []uint32, position uint32) uint32 {
	if len(at) <= few {
		n := uint64(0)
		for _, i := range at {
			n += (uint64(i) - uint64(position)) >> 63
		}
		return uint32(n)
	}
	low, _ := slices.BinarySearch(at, position)
	return uint32(low)
}
