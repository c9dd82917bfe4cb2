package tree

import (
	"strings"

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
	// Parents come before their children.
	const inside, below = 1, 2 // of the root of the search; of a function that matches
	state := make([]uint8, t.Len())
	state[root] = inside
	for i := int(root); i < t.Len(); i++ {
		n := NodeID(i)
		if n != root {
			state[n] = state[t.Parent[n]]
		}
		if state[n] == 0 || c.TotalSamples[n] == 0 {
			continue
		}
		f := t.Function[n]
		if n == 0 || !hit[f] {
			continue
		}
		if state[n]&below == 0 {
			m.Value += c.Total[n]
			m.Samples += c.TotalSamples[n]
		}
		state[n] |= below
		m.Nodes++
		if !seen[f] {
			seen[f] = true
			m.Functions = append(m.Functions, f)
		}
	}
	return m
}
