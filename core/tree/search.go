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
	covered := root // nodes before this are below one that matches
	for n, end := max(root, 1), t.end[root]; n < end; n++ {
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
		if !seen[f] {
			seen[f] = true
			m.Functions = append(m.Functions, f)
		}
	}
	return m
}
