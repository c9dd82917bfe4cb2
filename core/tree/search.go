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

// Search finds the functions below root whose name contains text, without
// regard to case, and what they cover together.
func (t *Tree) Search(c *Cost, root NodeID, text string) Matches {
	text = strings.ToLower(text)
	var m Matches
	if text == "" {
		return m
	}
	hit := make([]bool, len(t.Profile.Functions))
	for f := range t.Profile.Functions {
		hit[f] = f != 0 && strings.Contains(strings.ToLower(t.Profile.FunctionName(profile.FunctionID(f))), text)
	}
	seen := make([]bool, len(t.Profile.Functions))
	above := 0
	t.each(root, func(n NodeID) bool {
		if c.TotalSamples[n] == 0 {
			return false
		}
		f := t.Function[n]
		if n != 0 && hit[f] {
			if above == 0 {
				m.Value += c.Total[n]
				m.Samples += c.TotalSamples[n]
			}
			m.Nodes++
			if !seen[f] {
				seen[f] = true
				m.Functions = append(m.Functions, f)
			}
			above++
		}
		return true
	}, func(n NodeID) {
		if n != 0 && hit[t.Function[n]] {
			above--
		}
	})
	return m
}
