// Package calltext writes call trees for terminals: as an indented tree that is opened to
// where the cost spreads out, and as a flame graph of letters.
//
// It holds nothing.
package calltext

import (
	"bufio"
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"

	"entelon/core/calltree"
	"entelon/core/measure"
)

// Options say how much of a tree is written.
type Options struct {
	Least float64             // share of the total from which on a node is opened
	Depth int                 // calls from the root; 0: no bound
	Whole bool                // chains of calls in which nothing happens are written in full
	Name  func(string) string // as a function's name is shown
}

// longChain is from how many calls on a chain is shortened.
const longChain = 3

// WriteTree writes the tree below the root: of each node its total and its own cost as
// shares of all, and its function. Siblings stand by cost; those below the least share
// stand together in one line. The shares of a node's lines add up to its own.
func WriteTree(w io.Writer, t *calltree.Tree, c *calltree.Cost, o Options) error {
	b := bufio.NewWriter(w)
	x := &treeWriter{w: b, t: t, c: c, o: o, all: float64(max(1, c.Total(0))), unit: t.Profile.Words(c.Measure).Unit}
	fmt.Fprintf(b, "%8s %8s %10s  %s\n", "total %", "self %", "total", "function")
	x.below(0, 0, 0)
	if err := b.Flush(); err != nil {
		return fmt.Errorf("writing the tree: %w", err)
	}
	return nil
}

type treeWriter struct {
	w    *bufio.Writer
	t    *calltree.Tree
	c    *calltree.Cost
	o    Options
	all  float64
	unit measure.Unit
}

// below writes the children of a node, indented by so many steps.
func (x *treeWriter) below(n calltree.NodeID, indent, depth int) {
	if x.o.Depth > 0 && depth >= x.o.Depth {
		return
	}
	var open []calltree.NodeID
	var rest int64
	small := 0
	for m := range x.t.Children(n) {
		switch v := x.c.Total(m); {
		case v == 0:
		case float64(v) < x.o.Least*x.all:
			small++
			rest += v
		default:
			open = append(open, m)
		}
	}
	slices.SortFunc(open, func(a, b calltree.NodeID) int {
		return cmp.Or(cmp.Compare(x.c.Total(b), x.c.Total(a)), cmp.Compare(a, b))
	})
	for _, m := range open {
		last, passed := x.through(m)
		x.line(m, indent)
		step, level := indent+1, depth+1
		if passed > longChain && !x.o.Whole && x.o.Depth == 0 {
			stays := ""
			if d := x.c.Total(m) - x.c.Total(last); d > 0 {
				stays = fmt.Sprintf(", in which %.2f %% stays", 100*float64(d)/x.all)
			}
			fmt.Fprintf(x.w, "%29s %s… %d calls%s\n", "", strings.Repeat("  ", step), passed-1, stays)
			x.line(last, step+1)
			m, step = last, step+2
		}
		x.below(m, step, level)
	}
	if small > 0 && len(open)+small > 0 {
		what := fmt.Sprintf("%d smaller", small)
		fmt.Fprintf(x.w, "%8.2f %8s %10s  %s(%s)\n", 100*float64(rest)/x.all, "", measure.Amount(rest, x.unit), strings.Repeat("  ", indent), what)
	}
}

// through follows the one child that has a node's cost, but for less than is shown, for as
// long as there is one, and returns the last with how many calls that are.
func (x *treeWriter) through(n calltree.NodeID) (calltree.NodeID, int) {
	for passed := 0; ; passed++ {
		only, found := calltree.NodeID(0), false
		for m := range x.t.Children(n) {
			if rest := x.c.Total(n) - x.c.Total(m); rest == 0 || float64(rest) < x.o.Least*x.all/4 && float64(x.c.Total(m)) >= x.o.Least*x.all {
				only, found = m, true
			}
		}
		if !found {
			return n, passed
		}
		n = only
	}
}

func (x *treeWriter) line(n calltree.NodeID, indent int) {
	name := x.t.Profile.FunctionName(x.t.Function[n])
	fmt.Fprintf(x.w, "%8.2f %8.2f %10s  %s%s\n", 100*float64(x.c.Total(n))/x.all, 100*float64(x.c.Self(n))/x.all, measure.Amount(x.c.Total(n), x.unit), strings.Repeat("  ", indent), x.o.Name(name))
}
