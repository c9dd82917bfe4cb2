package calltree

import (
	"math/rand/v2"
	"slices"
	"testing"

	"entelon/core/invent"
	"entelon/core/parallel"
	"entelon/core/profile"
	"entelon/core/scope"
	"entelon/core/tally"
)

// TestPiecesOfPartsAddUp compares what is added up by parts and pieces of them
// with going through all samples, for whatever a sieve may let through.
func TestPiecesOfPartsAddUp(t *testing.T) {
	for seed := range uint64(12) {
		p := invent.Profile(seed, invent.Small)
		if seed%3 == 0 { // all have one value
			for i := range p.Samples.Values[0] {
				p.Samples.Values[0][i] = 10e6
			}
		} else {
			p.Samples.Values[0][len(p.Samples.Values[0])/2] = 0 // one that was taken for another measure
		}
		rnd := rand.New(rand.NewPCG(seed, 7))
		tr, n := New(p), p.Samples.Len()
		for _, parts := range []int{1, 2, 3, 4, 5, 7, 8, 11, 16} {
			group := groupSamples(p)
			b := group.sort(parts).inOrder(ownLeaves(tr, group))
			b.owner, b.ordered = tr, slices.IsSorted(p.Samples.Time)
			for try := range 40 {
				sieve := scope.Sieve{From: rnd.IntN(n + 1), To: n}
				sieve.To = sieve.From + rnd.IntN(n+1-sieve.From)
				if try == 0 {
					sieve.From, sieve.To = 0, n
				}
				if try%3 == 1 {
					sieve.Samples = make([]bool, n)
					for i := range sieve.Samples {
						sieve.Samples[i] = rnd.IntN(3) > 0
					}
				}
				if try%4 == 1 {
					sieve.Stacks = &scope.Test{Stack: func(s profile.StackID) bool { return s%3 != 0 }}
				}
				if try%5 > 2 {
					who := &scope.Test{Who: func(t profile.ThreadID, l profile.LabelSetID) bool { return (uint32(t)+uint32(l))%3 != 0 }, Not: try%2 == 0}
					sieve.Tests = append(sieve.Tests, who)
				}
				if try%6 == 5 {
					sieve.Tests = append(sieve.Tests, &scope.Test{Amount: &scope.Amount{Measure: 1, From: 1, To: 1}},
						&scope.Test{Amount: &scope.Amount{Measure: 0, To: 1_500_000, None: try%2 == 0}})
				}
				if try%7 > 4 {
					early := &scope.Test{Time: &scope.Span{To: 400e6}, Not: try%2 == 0}
					if b.ordered {
						early.Time.Last, _ = slices.BinarySearch(p.Samples.Time, 400e6)
					}
					sieve.Tests = append(sieve.Tests, &scope.Test{Any: try%3 == 0, Not: try%4 == 0, Parts: []*scope.Test{early,
						{Stack: func(s profile.StackID) bool { return s%2 == 0 }}, {Parts: []*scope.Test{{Amount: &scope.Amount{Measure: 1, From: 2, To: 9}}, {Any: true}}, Any: true}}})
				}
				want := map[profile.StackID]tally.Sum{}
				var all tally.Sum
				sieve.Each(p, func(i int) {
					if v := p.Samples.Values[0][i]; v != 0 {
						want[p.Samples.Stack[i]] = want[p.Samples.Stack[i]].Plus(tally.Sum{Value: v, Samples: 1})
						all = all.Plus(tally.Sum{Value: v, Samples: 1})
					}
				})
				sum := b.add(0, sieve)
				if got := sum.At(len(b.stacks)); sum.At(0) != (tally.Sum{}) || got != all {
					t.Fatalf("seed %d, %d parts, %d to %d: all are %v, want %v", seed, parts, sieve.From, sieve.To, got, all)
				}
				for l, s := range b.stacks {
					if got := sum.Between(uint32(l), uint32(l+1)); got != want[s] {
						t.Fatalf("seed %d, %d parts, %d to %d, stack %d: %v, want %v", seed, parts, sieve.From, sieve.To, s, got, want[s])
					}
				}
			}
		}
	}
}

// TestRunningSumsOfManyParts: what is added up in pieces and on several
// processors is one running sum.
func TestRunningSumsOfManyParts(t *testing.T) {
	const n = 2*parallel.Worth + 77
	back := make([]uint32, n)
	for k := range back {
		back[k] = uint32(n - 1 - k)
	}
	for _, one := range []int64{0, 7} {
		sum := tally.Running(n, one, func(low int, out tally.Sums) {
			for k := range out.Samples {
				out.Set(k, tally.Sum{Value: int64(low + k), Samples: 1})
			}
		})
		if len(sum.Samples) != n+1 {
			t.Fatalf("there are %d sums of %d", len(sum.Samples), n)
		}
		for k := range sum.Samples {
			want := tally.Sum{Value: int64(k) * int64(k-1) / 2, Samples: int64(k)}
			if one != 0 {
				want.Value = int64(k) * one
			}
			if got := sum.At(k); got != want {
				t.Fatalf("before %d stand %v, want %v", k, got, want)
			}
		}
		want := tally.Sum{Value: 3*n - 6, Samples: 3}
		if one != 0 {
			want.Value = 3 * one
		}
		turned := tally.Reordered(sum, back)
		if got := turned.At(3); got != want {
			t.Errorf("the last three are %v, want %v", got, want)
		}
	}
}
