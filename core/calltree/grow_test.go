package calltree

import (
	"fmt"
	"slices"
	"testing"

	"entelon/core/invent"
	"entelon/core/parallel"
	"entelon/core/profile"
	"entelon/core/scope"
	"entelon/core/tally"
)

// TestGrownAndFoldedTreesAreTheSame: a fold that folds nothing takes the stacks
// one by one and has to come to what the walk through them finds.
func TestGrownAndFoldedTreesAreTheSame(t *testing.T) {
	for seed := range uint64(25) {
		p := invent.Profile(seed, invent.Small)
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
		p := invent.Profile(seed, invent.Small)
		tr := New(p)
		want := make([]tally.Sum, p.Stacks.Len())
		for i, s := range p.Samples.Stack {
			for v := p.Samples.Values[0][i]; v != 0; s = p.Stacks.Parent[s] {
				want[s].Value += v
				want[s].Samples++
				if s == 0 {
					break
				}
			}
		}
		st, sum := tr.byLine(), tr.Cost(0, scope.Scope{}).byLine()
		for s := range want {
			if got := sum.Between(st.at[s], st.stop[s]); got != want[s] {
				t.Fatalf("seed %d, stack %d: %v, want %v", seed, s, got, want[s])
			}
		}
	}
}

// TestManyAreAddedUpAsOne: what is shared among processors comes to the same.
func TestManyAreAddedUpAsOne(t *testing.T) {
	const n = parallel.Worth + 3
	seen := make([]int, n)
	parallel.Each(n, func(low, high int) {
		for i := low; i < high; i++ {
			seen[i]++
		}
	})
	if slices.Min(seen) != 1 || slices.Max(seen) != 1 {
		t.Errorf("some of %d were done %d times, some %d times", n, slices.Min(seen), slices.Max(seen))
	}
}

// TestScopesInTheOrderOfLeaves: whatever a scope is made of, it adds up to the
// samples that it selects one by one, in trees of any shape.
func TestScopesInTheOrderOfLeaves(t *testing.T) {
	for seed := range uint64(6) {
		p := invent.Profile(seed, invent.Small)
		trees := map[string]*Tree{"whole": New(p), "folded": NewFolded(p, Runtime(p))}
		for _, shape := range []Shape{{Merge: true}, {Group: "thread"}, {Through: "fn3"}, {Fold: FoldForeign}} {
			trees[fmt.Sprint(shape)] = trees["whole"].In(shape)
		}
		for _, text := range []string{
			"", "function is fn3", "not function is fn3", "function is fn3 and not function is fn5", "path is fn1 > fn2 > fn1", "not path is fn1 > fn2", "idle", "not idle",
			"code is own", "top is fn1, fn4", "code is kernel or function is fn2", "thread is 101", "thread is 101 or function is fn3", "label page is 3 and code is own",
			"not (thread is 101 or label page is 2) and time from 0.2 s to 0.9 s", "cpu over 1 ms", "calls at most 1 and top is fn2", "time from 0.3 s or function is fn6", "not time from 0.3 s to 0.6 s",
		} {
			sc, err := scope.Parse(text)
			if err != nil {
				t.Fatal(err)
			}
			in := sc.Select(p)
			for name, tr := range trees {
				var want tally.Sum
				for i := range tr.Profile.Samples.Len() {
					at := i
					if tr.sampleOf != nil {
						at = int(tr.sampleOf[i])
					}
					if v := tr.Profile.Samples.Values[0][i]; in[at] && v != 0 {
						want = want.Plus(tally.Sum{Value: v, Samples: 1})
					}
				}
				c := tr.Cost(0, sc)
				if got := c.total(0); got != want {
					t.Errorf("seed %d, %s, %q: %v, want %v", seed, name, text, got, want)
				}
				threads := tally.Sum{}
				for _, x := range tr.Threads(0, sc) {
					threads = threads.Plus(tally.Sum{Value: x.Value, Samples: x.Samples})
				}
				if threads != want {
					t.Errorf("seed %d, %s, %q: threads have %v, want %v", seed, name, text, threads, want)
				}
			}
		}
	}
}

// TestPiecesOfATreeAreSearchedAsOne: wherever a tree is cut, what is found in its
// pieces comes to the same, and so do the leaves that an automaton marks.
func TestPiecesOfATreeAreSearchedAsOne(t *testing.T) {
	all := 0 // searches of trees with cost in each node
	for seed := range uint64(8) {
		tr := New(invent.Profile(seed, invent.Small))
		c := tr.Cost(0, scope.Scope{})
		hit := make([]bool, len(tr.Profile.Functions))
		next := [][]uint8{make([]uint8, len(hit)), make([]uint8, len(hit))}
		for f := range hit {
			hit[f] = f != 0 && (f+int(seed))%4 == 0
			next[0][f], next[1][f] = uint8(bit(hit[f])), 1
		}
		x := &scope.Stacks{Next: next, Accept: []bool{false, true}, Settled: []bool{false, true}}
		for _, root := range []NodeID{0, 1, NodeID(tr.Len() / 3)} {
			first, end := max(root, 1), tr.end[root]
			var whole Matches
			met := make([]bool, len(hit))
			match(tr, c, root, first, end, hit, met, &whole)
			if c.everywhere() {
				all++
				short := matchWhole(tr, c, root, hit)
				for f, is := range met {
					if is != slices.Contains(short.Functions, profile.FunctionID(f)) {
						t.Errorf("seed %d, below %d: function %d is found in one way alone", seed, root, f)
					}
				}
				if short.Nodes != whole.Nodes || short.Value != whole.Value || short.Samples != whole.Samples {
					t.Errorf("seed %d, below %d: %+v where each node has cost, want %+v", seed, root, short, whole)
				}
			}
			for cut := first; cut < end; cut++ {
				var got Matches
				match(tr, c, root, first, cut, hit, make([]bool, len(hit)), &got)
				match(tr, c, root, cut, end, hit, make([]bool, len(hit)), &got)
				if got.Nodes != whole.Nodes || got.Value != whole.Value || got.Samples != whole.Samples {
					t.Fatalf("seed %d, below %d, cut at %d: %+v, want %+v", seed, root, cut, got, whole)
				}
			}
		}
		run := func(low, high NodeID, in []bool) {
			run(tr, x, x.Turns(), low, high, in)
		}
		end := NodeID(tr.Len())
		want := make([]bool, len(tr.samples.stacks))
		run(0, end, want)
		if !slices.Equal(marked(tr, x), want) || !slices.Contains(want, true) {
			t.Errorf("seed %d: in pieces, other leaves are marked", seed)
		}
		for cut := NodeID(1); cut < end; cut++ {
			got := make([]bool, len(want))
			run(0, cut, got)
			run(cut, end, got)
			if !slices.Equal(got, want) {
				t.Fatalf("seed %d, cut at %d: other leaves are marked", seed, cut)
			}
		}
	}
	if all < 3 {
		t.Errorf("%d trees have cost in each node", all)
	}
}
