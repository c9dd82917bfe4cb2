package compare

import (
	"sort"

	"entelon/core/profile"
)

// Mirror is the flame graphs of both sides in columns, row by row from the root,
// in one order and on one scale. A frame stands at the same place on both sides:
// it has a slot there, as wide as the larger of its totals and of its parts'
// slots together, so that what differs is what is not symmetric.
type Mirror struct {
	Width    float64 // of the root's slot
	Depth    []int32
	Function []int32 // -1 for the root
	X, Slot  []float64
	Total    [2][]float64
	Parent   []int32 // position, -1 for the root
	Left     int     // frames that are left out, since there are more than maxMirrored
}

// maxMirrored bounds the frames of a mirror.
const maxMirrored = 50_000

// Mirror lays both sides out. Frames that have less than a share of the whole on
// both sides are left out. Siblings stand by name, so that a later comparison of
// the same program looks the same.
func (r *Result) Mirror(least float64) *Mirror {
	root := r.Both(least)
	slots := map[*Both]float64{}
	var slot func(n *Both) float64
	slot = func(n *Both) float64 {
		sum := 0.0
		for _, p := range n.Parts {
			sum += slot(p)
		}
		slots[n] = max(n.Total[0], n.Total[1], sum)
		return slots[n]
	}
	m := &Mirror{Width: slot(root)}
	type place struct {
		n      *Both
		x      float64
		parent int32
	}
	row := []place{{root, 0, -1}}
	for depth := int32(0); len(row) > 0; depth++ {
		var next []place
		for _, p := range row {
			if len(m.X) >= maxMirrored {
				m.Left++
				continue
			}
			at := int32(len(m.X))
			m.Depth, m.Function, m.Parent = append(m.Depth, depth), append(m.Function, p.n.Function), append(m.Parent, p.parent)
			m.X, m.Slot = append(m.X, p.x), append(m.Slot, slots[p.n])
			m.Total[0], m.Total[1] = append(m.Total[0], p.n.Total[0]), append(m.Total[1], p.n.Total[1])
			parts := append([]*Both(nil), p.n.Parts...)
			sort.Slice(parts, func(i, j int) bool {
				if a, b := profile.Short(r.Name(parts[i].Function)), profile.Short(r.Name(parts[j].Function)); a != b {
					return a < b
				}
				return parts[i].Function < parts[j].Function
			})
			x := p.x
			for _, q := range parts {
				next = append(next, place{q, x, at})
				x += slots[q]
			}
		}
		row = next
	}
	return m
}
