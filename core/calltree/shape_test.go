package calltree_test

import (
	"testing"

	"entelon/core/calltree"
	"entelon/core/invent"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scope"
)

// Whatever the shape, no cost is lost or made, and what is below a node is the
// cost of the node.
func TestShapesConserve(t *testing.T) {
	for seed := range uint64(4) {
		p := invent.Profile(seed+20, invent.Small)
		before := *p
		for _, s := range []calltree.Shape{
			{}, {Fold: calltree.FoldRuntime}, {Fold: calltree.FoldForeign}, {Merge: true}, {Group: calltree.GroupThread}, {Group: calltree.GroupProcess}, {Group: calltree.GroupModule},
			{Group: calltree.GroupModule, Fold: calltree.FoldForeign, Merge: true}, {Through: "fn3"}, {Through: "fn3", Group: calltree.GroupThread, Merge: true},
		} {
			if err := s.Check(); err != nil {
				t.Fatal(err)
			}
			tr := calltree.Shaped(p, s)
			for _, sc := range []scope.Scope{{}, scope.Between(2e8, 9e8)} {
				c := tr.Cost(0, sc)
				var self, want int64
				for n := calltree.NodeID(0); int(n) < tr.Len(); n++ {
					self += c.Self(n)
					below := c.Self(n)
					for m := range tr.Children(n) {
						below += c.Total(m)
					}
					if below != c.Total(n) {
						t.Fatalf("%+v: node %d has %d, with what is below it %d", s, n, c.Total(n), below)
					}
				}
				in := sc.Contains(p)
				for i, st := range p.Samples.Stack {
					if in(i) && (s.Through == "" || passes(p, st, s.Through)) {
						want += p.Samples.Values[0][i]
					}
				}
				var threads int64
				for _, x := range tr.Threads(0, sc) {
					threads += x.Value
				}
				if threads != want {
					t.Errorf("%+v: the threads sum to %d, want %d", s, threads, want)
				}
				if self != want || c.Total(0) != want {
					t.Errorf("%+v: self costs sum to %d, the total is %d, want %d", s, self, c.Total(0), want)
				}
			}
		}
		if len(p.Functions) != len(before.Functions) || len(p.Strings) != len(before.Strings) || p.Stacks.Len() != before.Stacks.Len() {
			t.Error("the profile itself was changed")
		}
		if err := calltree.Grouped(p, calltree.GroupThread).Check(); err != nil {
			t.Error(err)
		}
	}
}

func passes(p *profile.Profile, s profile.StackID, name string) (is bool) {
	p.Walk(s, func(f profile.FrameID) { is = is || p.FunctionName(p.Frames[f].Function) == name })
	return is
}

func TestShapes(t *testing.T) {
	b := profile.NewBuilder()
	b.Measure("cpu", "ns", measure.Sum)
	frame := func(name string, kind profile.ModuleKind) profile.FrameID {
		m := b.Module(profile.Module{Path: b.Intern("/srv/" + kind.String()), Kind: kind})
		return b.Frame(profile.Frame{Function: b.Function(profile.Function{Name: b.Intern(name), Module: m, Kind: kind})})
	}
	main, route, sort, less, swap := frame("main", profile.KindOwn), frame("route", profile.KindOwn), frame("sort", profile.KindLibrary), frame("less", profile.KindOwn), frame("swap", profile.KindLibrary)
	a, z := b.Thread(b.Process(1), 1), b.Thread(b.Process(1), 2)
	b.NameThread(a, "worker-1")
	b.NameThread(z, "worker-2")
	push := func(fs ...profile.FrameID) (s profile.StackID) {
		for _, f := range fs {
			s = b.Push(s, f)
		}
		return s
	}
	b.Sample(0, a, push(main, route, sort, swap), 5)
	b.Sample(1, a, push(main, route, sort, swap, less), 7) // own code that foreign code calls back
	b.Sample(2, z, push(main, route, route, route), 11)
	b.Sample(3, z, push(main, sort), 13)
	p := b.Profile()
	cost := func(s calltree.Shape, path ...string) int64 {
		tr := calltree.Shaped(p, s)
		c := tr.Cost(0, scope.Scope{})
		n := calltree.NodeID(0)
	step:
		for _, name := range path {
			for m := range tr.Children(n) {
				if tr.Profile.FunctionName(tr.Function[m]) == name {
					n = m
					continue step
				}
			}
			return -1
		}
		return c.Total(n)
	}
	for _, x := range []struct {
		shape calltree.Shape
		path  []string
		want  int64
	}{
		{calltree.Shape{}, []string{"main", "route", "sort", "swap", "less"}, 7},
		{calltree.Shape{Fold: calltree.FoldForeign}, []string{"main", "route", "sort", "swap"}, -1},
		{calltree.Shape{Fold: calltree.FoldForeign}, []string{"main", "route", "sort"}, 12},
		{calltree.Shape{Fold: calltree.FoldForeign}, []string{"main", "route", "sort", "less"}, 7},
		{calltree.Shape{Merge: true}, []string{"main", "route", "route"}, -1},
		{calltree.Shape{Merge: true}, []string{"main", "route"}, 23},
		{calltree.Shape{Group: calltree.GroupThread}, []string{"[thread worker-2, 2]", "main", "sort"}, 13},
		{calltree.Shape{Group: calltree.GroupModule}, []string{"[module library]", "main"}, 18},
		{calltree.Shape{Group: calltree.GroupModule}, []string{"[module main]", "main"}, -1},
		{calltree.Shape{Through: "sort"}, []string{"sort"}, 25},
		{calltree.Shape{Through: "sort"}, []string{"sort", "swap"}, 12},
		{calltree.Shape{Through: "route", Merge: true}, []string{"route"}, 23},
	} {
		if got := cost(x.shape, x.path...); got != x.want {
			t.Errorf("%+v: %v has %d, want %d", x.shape, x.path, got, x.want)
		}
	}
	if calltree.Shape.Check(calltree.Shape{Fold: "paper"}) == nil || calltree.Shape.Check(calltree.Shape{Group: "moon"}) == nil {
		t.Error("a shape that there is not was taken")
	}
}
