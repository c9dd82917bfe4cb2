package tree

import (
	"iter"
	"strings"
	"sync"

	"entelon/core/profile"
)

// Matches is what a search found.
type Matches struct {
	Functions []profile.FunctionID // that match and have cost below the root of the search
	Nodes     int64                // of those functions, with cost
	Value     int64                // the cost that they cover together, each sample once
	Samples   int64
}

// lowerNames are the names of all functions without regard to case, made once.
func (t *Tree) lowerNames() []string {
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
func (t *Tree) Search(c *Cost, root NodeID, text string) Matches {
	text = strings.ToLower(text)
	var m Matches
	if text == "" {
		return m
	}
	names := t.lowerNames()
	hit := make([]bool, len(names))
	for f := range hit {
		hit[f] = f != 0 && strings.Contains(names[f], text)
	}
	seen := make([]bool, len(t.Profile.Functions))
	first, end := max(root, 1), t.end[root]
	var joining sync.Mutex
	shared(int(end-first), func(pieces iter.Seq2[int, int]) {
		var mine Matches
		met := make([]bool, len(seen))
		for low, high := range pieces {
			t.match(c, root, first+NodeID(low), first+NodeID(high), hit, met, &mine)
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

// match adds up the nodes from low to high that are of functions that are hit.
func (t *Tree) match(c *Cost, root, low, high NodeID, hit, met []bool, m *Matches) {
	covered := low // nodes before this are below one that matches
	for n := t.Parent[low]; n > root || n == root && n != 0; n = t.Parent[n] {
		if hit[t.Function[n]] {
			covered = t.end[n]
		}
	}
	for n := low; n < high; n++ {
		f := t.Function[n]
		if !hit[f] {
			continue
		}
		total := c.total(n)
		if total.samples == 0 {
			continue
		}
		if n >= covered {
			covered = t.end[n]
			m.Value += total.value
			m.Samples += total.samples
		}
		m.Nodes++
		met[f] = true
	}
}
