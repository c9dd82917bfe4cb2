package calltree

import (
	"iter"
	"slices"
	"strings"
	"sync"

	"entelon/core/parallel"
	"entelon/core/profile"
	"entelon/core/tally"
)

// Matches is what a search found.
type Matches struct {
	Functions []profile.FunctionID // that match and have cost below the root of the search
	Nodes     int64                // of those functions, with cost
	Value     int64                // the cost that they cover together, each sample once
	Samples   int64
}

// lowerNames are the names of all functions without regard to case, made once.
func lowerNames(t *Tree) []string {
	t.lower.Do(func() {
		t.names = make([]string, len(t.Profile.Functions))
		for f := range t.names {
			t.names[f] = strings.ToLower(t.Profile.FunctionName(profile.FunctionID(f)))
		}
	})
	return t.names
}

// Search finds the functions below root whose name contains text, without
// regard to case, and what they cover together.
func Search(t *Tree, c *Cost, root NodeID, text string) Matches {
	text = strings.ToLower(text)
	var m Matches
	if text == "" {
		return m
	}
	names := lowerNames(t)
	hit := make([]bool, len(names))
	for f := range hit {
		hit[f] = f != 0 && strings.Contains(names[f], text)
	}
	first, end := max(root, 1), t.end[root]
	if c.everywhere() {
		return matchWhole(t, c, root, hit)
	}
	seen := make([]bool, len(t.Profile.Functions))
	var joining sync.Mutex
	parallel.Pieces(int(end-first), func(pieces iter.Seq2[int, int]) {
		var mine Matches
		met := make([]bool, len(seen))
		for low, high := range pieces {
			match(t, c, root, first+NodeID(low), first+NodeID(high), hit, met, &mine)
		}
		joining.Lock()
		defer joining.Unlock()
		m.Nodes += mine.Nodes
		m.Value += mine.Value
		m.Samples += mine.Samples
		for f, is := range met {
			seen[f] = seen[f] || is
		}
	})
	for f, is := range seen {
		if is {
			m.Functions = append(m.Functions, profile.FunctionID(f))
		}
	}
	return m
}

// matchWhole is the search where each node with leaves has cost: how many nodes a
// function has is known, and what is below one that matches need not be gone through.
func matchWhole(t *Tree, c *Cost, root NodeID, hit []bool) (m Matches) {
	first, end := max(root, 1), t.end[root]
	without := map[profile.FunctionID]int{} // nodes that have no cost
	for _, n := range t.bare() {
		if n >= first && n < end {
			without[t.Function[n]]++
		}
	}
	for f, is := range hit {
		if !is {
			continue
		}
		nodes := t.NodesOf(profile.FunctionID(f))
		low, _ := slices.BinarySearch(nodes, first)
		high, _ := slices.BinarySearch(nodes[low:], end)
		if n := high - without[profile.FunctionID(f)]; n > 0 {
			m.Functions, m.Nodes = append(m.Functions, profile.FunctionID(f)), m.Nodes+int64(n)
		}
	}
	var joining sync.Mutex
	parallel.Pieces(int(end-first), func(pieces iter.Seq2[int, int]) {
		var mine tally.Sum
		for low, high := range pieces {
			low, high := first+NodeID(low), first+NodeID(high)
			for n := covered(t, root, low, hit); n < high; n++ {
				if hit[t.Function[n]] {
					mine = mine.Plus(c.total(n))
					n = t.end[n] - 1
				}
			}
		}
		joining.Lock()
		defer joining.Unlock()
		m.Value, m.Samples = m.Value+mine.Value, m.Samples+mine.Samples
	})
	return m
}

// covered returns from where on nodes are not below one that is above low and
// matches: low, if there is none.
func covered(t *Tree, root, low NodeID, hit []bool) NodeID {
	covered := low
	for n := t.Parent[low]; n > root || n == root && n != 0; n = t.Parent[n] {
		if hit[t.Function[n]] {
			covered = t.end[n]
		}
	}
	return covered
}

// match adds up the nodes from low to high that are of functions that are hit.
func match(t *Tree, c *Cost, root, low, high NodeID, hit, met []bool, m *Matches) {
	covered := covered(t, root, low, hit) // nodes before this are below one that matches
	for n := low; n < high; n++ {
		f := t.Function[n]
		if !hit[f] {
			continue
		}
		total := c.total(n)
		if total.Samples == 0 {
			continue
		}
		if n >= covered {
			covered = t.end[n]
			m.Value += total.Value
			m.Samples += total.Samples
		}
		m.Nodes++
		met[f] = true
	}
}
