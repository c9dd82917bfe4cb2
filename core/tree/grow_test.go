package tree

import (
	"slices"
	"testing"

	"entelon/core/made"
	"entelon/core/profile"
	"entelon/core/scope"
)

// TestGrownAndFoldedTreesAreTheSame: a fold that folds nothing takes the stacks
// one by one and has to come to what the walk through them finds.
func TestGrownAndFoldedTreesAreTheSame(t *testing.T) {
	for seed := range uint64(25) {
		p := made.Profile(seed, made.Small)
		grown, folded := New(p), NewFolded(p, func(profile.FunctionID) bool { return false })
		for what, same := range map[string]bool{
			"parents": slices.Equal(grown.Parent, folded.Parent), "functions": slices.Equal(grown.Function, folded.Function),
			"depths": slices.Equal(grown.Depth, folded.Depth), "what was inlined": slices.Equal(grown.Inlined[1:], folded.Inlined[1:]),
			"nodes of stacks": slices.Equal(grown.NodeOf, folded.NodeOf), "ends": slices.Equal(grown.end, folded.end),
			"leaves": slices.Equal(grown.leaves, folded.leaves),
		} {
			if !same {
				t.Errorf("seed %d: the %s differ", seed, what)
			}
		}
	}
}

// TestStacksStandBesideEachOther compares sums below a stack with those over
// all samples whose stack begins with it.
func TestStacksStandBesideEachOther(t *testing.T) {
	for seed := range uint64(10) {
		p := made.Profile(seed, made.Small)
		tr := New(p)
		want := make([]tally, p.Stacks.Len())
		for i, s := range p.Samples.Stack {
			for v := p.Samples.Values[0][i]; v != 0; s = p.Stacks.Parent[s] {
				want[s].value += v
				want[s].samples++
				if s == 0 {
					break
				}
			}
		}
		st, sum := tr.byLine(), tr.Cost(0, scope.Scope{}).byLine()
		for s := range want {
			if got := sum[st.stop[s]].less(sum[st.at[s]]); got != want[s] {
				t.Fatalf("seed %d, stack %d: %v, want %v", seed, s, got, want[s])
			}
		}
	}
}

// TestManyAreAddedUpAsOne: what is shared among processors comes to the same.
func TestManyAreAddedUpAsOne(t *testing.T) {
	const n = worthSharing + 3
	seen := make([]int, n)
	parallel(n, func(low, high int) {
		for i := low; i < high; i++ {
			seen[i]++
		}
	})
	if slices.Min(seen) != 1 || slices.Max(seen) != 1 {
		t.Errorf("some of %d were done %d times, some %d times", n, slices.Min(seen), slices.Max(seen))
	}
}
