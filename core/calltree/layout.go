package calltree

import (
	"fmt"
	"sort"

	"entelon/core/profile"
)

// Order says how siblings stand beside each other.
type Order string

// The orders of siblings.
const (
	ByCost  Order = "cost"  // the costliest first
	ByName  Order = "name"  // alphabetically, the same in every take
	ByFirst Order = "first" // in the order in which they were first seen
)

// ParseOrder reads an order by name; "" is ByCost.
func ParseOrder(s string) (Order, error) {
	switch o := Order(s); o {
	case "":
		return ByCost, nil
	case ByCost, ByName, ByFirst:
		return o, nil
	}
	return "", fmt.Errorf("there is no order %q; choose cost, name or first", s)
}

// Layout is a flame graph in columns, row by row from the root. Positions and
// widths are in the measure's unit, so that nothing is rounded: the widths of
// a node's boxes and of its own self cost sum to its width exactly.
//
// A box with Hidden > 0 is a band: it stands for that many children of its
// parent that are too thin to see, and Node is their parent. Where Deep is set,
// they are left out not for their width, but since the drawing has its last row
// there, or as many boxes as it may have.
type Layout struct {
	Node   []NodeID
	Depth  []int32 // 0 for the box that was dived into
	X, W   []int64
	Self   []int64
	Hidden []int32
	Deep   []bool
}

// LayoutOptions choose a part of the tree and how it is laid out.
type LayoutOptions struct {
	Root     NodeID // the node dived into; 0 for the whole tree
	MinWidth int64  // boxes narrower than this go into bands
	Order    Order
	// Keep are functions whose boxes are drawn however narrow they are, with
	// those that lead to them.
	Keep []profile.FunctionID
	// Rows and Boxes bound the drawing; 0: no bound. What does not fit is in bands.
	Rows, Boxes int
}

// Layout lays a part of the tree out. Children stand side by side from the
// left edge of their parent; what is left at the right is the parent's self cost.
func (t *Tree) Layout(c *Cost, o LayoutOptions) *Layout {
	l := &Layout{}
	kept := leadingTo(t, c, o.Keep)
	l.add(o.Root, 0, 0, c.Total(o.Root), c.Self(o.Root), 0, false)
	var order []NodeID
	for i := 0; i < len(l.Node); i++ {
		if l.Hidden[i] > 0 {
			continue
		}
		n, x := l.Node[i], l.X[i]
		order = order[:0]
		hidden, thin := int32(0), int64(0)
		// What ends below siblings stands together, so that each sum is read once.
		full := o.Rows > 0 && int(l.Depth[i])+1 >= o.Rows || o.Boxes > 0 && len(l.Node) >= o.Boxes
		before := t.leafAt[n+1]
		for m := range t.Children(n) {
			w := c.sum.Between(before, t.stop[m]).Value
			before = t.stop[m]
			switch {
			case w == 0:
			case full || w < o.MinWidth && !kept[m]:
				hidden++
				thin += w
			default:
				order = append(order, m)
			}
		}
		sortNodes(t, order, c, o.Order)
		for _, m := range order {
			l.add(m, l.Depth[i]+1, x, c.Total(m), c.Self(m), 0, false)
			x += c.Total(m)
		}
		if hidden > 0 {
			l.add(n, l.Depth[i]+1, x, thin, 0, hidden, full)
		}
	}
	return l
}

// maxKept bounds how many nodes of one function are kept in a drawing.
const maxKept = 400

// leadingTo returns the costliest nodes of functions, with all above them.
func leadingTo(t *Tree, c *Cost, functions []profile.FunctionID) map[NodeID]bool {
	kept := map[NodeID]bool{}
	for _, f := range functions {
		var nodes []NodeID
		for _, n := range t.NodesOf(f) {
			if c.Total(n) > 0 {
				nodes = append(nodes, n)
			}
		}
		if len(nodes) > maxKept {
			sortNodes(t, nodes, c, ByCost)
			nodes = nodes[:maxKept]
		}
		for _, n := range nodes {
			for ; n != 0 && !kept[n]; n = t.Parent[n] {
				kept[n] = true
			}
		}
	}
	return kept
}

func (l *Layout) add(n NodeID, depth int32, x, w, self int64, hidden int32, deep bool) {
	l.Node = append(l.Node, n)
	l.Depth = append(l.Depth, depth)
	l.X = append(l.X, x)
	l.W = append(l.W, w)
	l.Self = append(l.Self, self)
	l.Hidden = append(l.Hidden, hidden)
	l.Deep = append(l.Deep, deep)
}

func sortNodes(t *Tree, nodes []NodeID, c *Cost, o Order) {
	name := func(n NodeID) string { return t.Profile.FunctionName(t.Function[n]) }
	switch o {
	case ByFirst: // their numbers are in that order already
	case ByName:
		sort.Slice(nodes, func(i, j int) bool {
			if a, b := name(nodes[i]), name(nodes[j]); a != b {
				return a < b
			}
			return nodes[i] < nodes[j]
		})
	default:
		sort.Slice(nodes, func(i, j int) bool {
			if c.Total(nodes[i]) != c.Total(nodes[j]) {
				return c.Total(nodes[i]) > c.Total(nodes[j])
			}
			return nodes[i] < nodes[j]
		})
	}
}
