package calltree_test

import (
	"fmt"
	"maps"
	"math"
	"strings"
	"testing"

	"entelon/core/calltree"
	"entelon/core/invent"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scope"
)

// every runs a check over many random profiles, scopes and both measures.
func every(t *testing.T, check func(t *testing.T, p *profile.Profile, tr *calltree.Tree, c *calltree.Cost, inScope int64)) {
	for seed := range uint64(25) {
		p := invent.Profile(seed, invent.Small)
		tr := calltree.New(p)
		for _, sc := range []scope.Scope{
			{}, scope.Between(200e6, 900e6), thread101(t), scope.Between(1e12, 0),
			read(t, "not idle and time to 0.8 s"), read(t, fmt.Sprintf("function is %q or not path is %q > *", p.FunctionName(3), p.FunctionName(5))),
		} {
			for m := range p.Measures {
				in, want := sc.Contains(p), int64(0)
				for i, v := range p.Samples.Values[m] {
					if in(i) {
						want += v
					}
				}
				check(t, p, tr, tr.Cost(m, sc), want)
			}
		}
	}
}

func TestSelfCostsSumToTheTotal(t *testing.T) {
	every(t, func(t *testing.T, _ *profile.Profile, tr *calltree.Tree, c *calltree.Cost, want int64) {
		if c.Total(0) != want {
			t.Fatalf("the root's total is %d, the samples in scope sum to %d", c.Total(0), want)
		}
		var nodes, functions int64
		for n := calltree.NodeID(0); int(n) < tr.Len(); n++ {
			nodes += c.Self(n)
			below := c.Self(n)
			for m := range tr.Children(n) {
				below += c.Total(m)
				if m <= n || tr.End(m) > tr.End(n) {
					t.Fatalf("node %d, up to %d, is below %d, up to %d", m, tr.End(m), n, tr.End(n))
				}
			}
			if below != c.Total(n) {
				t.Fatalf("node %d has %d, its parts %d", n, c.Total(n), below)
			}
		}
		for _, r := range calltree.Functions(tr, c) {
			functions += r.Self
			if r.Total < r.Self || r.Total > want {
				t.Fatalf("function %d: self %d, total %d, all %d", r.Function, r.Self, r.Total, want)
			}
		}
		if nodes != want || functions != want {
			t.Fatalf("self costs sum to %d by node and %d by function, want %d", nodes, functions, want)
		}
	})
}

// TestTotalsCountRecursionOnce compares with the slow and obvious way: a
// function's total is the sum of the samples on whose stack it occurs.
func TestTotalsCountRecursionOnce(t *testing.T) {
	for seed := range uint64(25) {
		p := invent.Profile(seed, invent.Small)
		want := map[profile.FunctionID]int64{}
		for i, s := range p.Samples.Stack {
			seen := map[profile.FunctionID]bool{}
			p.Walk(s, func(f profile.FrameID) { seen[p.Frames[f].Function] = true })
			for f := range seen {
				want[f] += p.Samples.Values[0][i]
			}
		}
		tr := calltree.New(p)
		for _, r := range calltree.Functions(tr, tr.Cost(0, scope.Scope{})) {
			if r.Total != want[r.Function] {
				t.Fatalf("seed %d, %s: total %d, want %d", seed, p.FunctionName(r.Function), r.Total, want[r.Function])
			}
			delete(want, r.Function)
		}
		if len(want) > 0 {
			t.Fatalf("seed %d: %d functions are missing", seed, len(want))
		}
	}
}

func TestCallersSumToTheTotal(t *testing.T) {
	every(t, func(t *testing.T, _ *profile.Profile, tr *calltree.Tree, c *calltree.Cost, _ int64) {
		for _, r := range calltree.Functions(tr, c) {
			var callers int64
			for _, e := range calltree.Callers(tr, c, r.Function) {
				callers += e.Value
			}
			if callers != r.Total {
				t.Fatalf("callers of %d bring %d of its total %d", r.Function, callers, r.Total)
			}
			for _, e := range calltree.Callees(tr, c, r.Function) {
				if e.Value > r.Total {
					t.Fatalf("a callee takes %d of the total %d", e.Value, r.Total)
				}
			}
		}
	})
}

// TestCalleesAreThoseOfTheSamples compares with the slow and obvious way: a
// callee takes the samples on whose stack it stands right behind its caller.
func TestCalleesAreThoseOfTheSamples(t *testing.T) {
	for seed := range uint64(25) {
		p := invent.Profile(seed, invent.Small)
		type call struct{ from, to profile.FunctionID }
		want := map[call]int64{}
		for i, s := range p.Samples.Stack {
			var way []profile.FunctionID // from the innermost
			p.Walk(s, func(f profile.FrameID) { way = append(way, p.Frames[f].Function) })
			seen := map[call]bool{}
			for k := range len(way) - 1 {
				seen[call{way[k+1], way[k]}] = true
			}
			for c := range seen {
				want[c] += p.Samples.Values[0][i]
			}
		}
		tr := calltree.New(p)
		c := tr.Cost(0, scope.Scope{})
		for _, r := range calltree.Functions(tr, c) {
			for _, e := range calltree.Callees(tr, c, r.Function) {
				k := call{r.Function, e.Function}
				if e.Value != want[k] {
					t.Fatalf("seed %d: %v takes %d, want %d", seed, k, e.Value, want[k])
				}
				delete(want, k)
			}
		}
		for k, v := range want {
			if v != 0 {
				t.Fatalf("seed %d: %v is missing, with %d", seed, k, v)
			}
		}
	}
}

// TestLayoutConserves: in every part, at every width, the boxes and bands
// under a box and its own self cost are exactly as wide as the box.
func TestLayoutConserves(t *testing.T) {
	every(t, func(t *testing.T, _ *profile.Profile, tr *calltree.Tree, c *calltree.Cost, _ int64) {
		for _, o := range []calltree.LayoutOptions{{MinWidth: 1}, {MinWidth: c.Total(0) / 50, Order: calltree.ByName}, {Root: calltree.NodeID(tr.Len() / 3), MinWidth: c.Total(0) / 400, Order: calltree.ByFirst}} {
			l := tr.Layout(c, o)
			under := make([]int64, len(l.Node))
			hidden := 0
			for i := 1; i < len(l.Node); i++ {
				parent := -1
				for j := range l.Node {
					if l.Depth[j] == l.Depth[i]-1 && l.Hidden[j] == 0 && l.X[j] <= l.X[i] && l.X[i]+l.W[i] <= l.X[j]+l.W[j] {
						parent = j
					}
				}
				if parent < 0 {
					t.Fatalf("box %d stands under none", i)
				}
				under[parent] += l.W[i]
				if l.Hidden[i] > 0 {
					hidden++
				} else if l.W[i] < o.MinWidth {
					t.Fatalf("a box of %d was laid out; the thinnest is %d", l.W[i], o.MinWidth)
				}
			}
			for i := range l.Node {
				if l.Hidden[i] == 0 && under[i]+l.Self[i] != l.W[i] {
					t.Fatalf("box %d is %d wide; under it are %d, its own is %d", i, l.W[i], under[i], l.Self[i])
				}
			}
			if o.MinWidth <= 1 && hidden > 0 {
				t.Fatal("frames were hidden where none is too thin")
			}
		}
	})
}

func TestSearchCoversEachSampleOnce(t *testing.T) {
	p := invent.Profile(5, invent.Small)
	tr := calltree.New(p)
	c := tr.Cost(0, scope.Scope{})
	if m := calltree.Search(tr, c, 0, "FN"); m.Value != c.Total(0) {
		t.Errorf("a search for all covers %d of %d", m.Value, c.Total(0))
	}
	var want int64
	for i, s := range p.Samples.Stack {
		hit := false
		p.Walk(s, func(f profile.FrameID) { hit = hit || strings.Contains(p.FunctionName(p.Frames[f].Function), "n3") })
		if hit {
			want += p.Samples.Values[0][i]
		}
	}
	if m := calltree.Search(tr, c, 0, "n3"); m.Value != want || len(m.Functions) != 1 {
		t.Errorf("the search covers %d in %d functions, want %d in 1", m.Value, len(m.Functions), want)
	}
	if m := calltree.Search(tr, c, 0, ""); m.Nodes != 0 {
		t.Error("a search for nothing found something")
	}
}

func TestSpreadPoint(t *testing.T) {
	b := profile.NewBuilder()
	b.Measure("cpu", "ns", measure.Sum)
	th := b.Thread(b.Process(1), 1)
	f := func(name string) profile.FrameID {
		return b.Frame(profile.Frame{Function: b.Function(profile.Function{Name: b.Intern(name)})})
	}
	engrave := b.Push(b.Push(0, f("main")), f("engrave"))
	for i, name := range []string{"space", "beam", "route"} {
		b.Sample(int64(i), th, b.Push(engrave, f(name)), 30)
	}
	b.Sample(3, th, b.Push(0, f("idle")), 5)
	tr := calltree.New(b.Profile())
	c := tr.Cost(0, scope.Scope{})
	if n := calltree.SpreadPoint(tr, c, 0.5); b.Profile().FunctionName(tr.Function[n]) != "engrave" {
		t.Errorf("the cost spreads out at %q, want engrave", b.Profile().FunctionName(tr.Function[n]))
	}
}

// TestIntervalHoldsItsPromise simulates: the 95 % interval of a share must hold
// the true share in about 95 of 100 cases, small counts included.
func TestIntervalHoldsItsPromise(t *testing.T) {
	if low, high := calltree.Interval(0, 0, calltree.Z95); low != 0 || high != 1 {
		t.Errorf("of nothing, %v to %v is known", low, high)
	}
	for _, x := range []struct {
		n int64
		p float64
	}{{40, 0.1}, {1000, 0.02}, {1000, 0.5}} {
		covered := 0.0
		for k := range x.n + 1 {
			if low, high := calltree.Interval(k, x.n, calltree.Z95); low <= x.p && x.p <= high {
				covered += binomial(k, x.n, x.p)
			}
		}
		if covered < 0.92 || covered > 0.985 {
			t.Errorf("n %d, p %v: the interval holds the share in %.3f of cases", x.n, x.p, covered)
		}
	}
}

func binomial(k, n int64, p float64) float64 {
	a, _ := math.Lgamma(float64(n + 1))
	b, _ := math.Lgamma(float64(k + 1))
	c, _ := math.Lgamma(float64(n - k + 1))
	return math.Exp(a - b - c + float64(k)*math.Log(p) + float64(n-k)*math.Log(1-p))
}

var wide = invent.Shape{Functions: 2000, Threads: 4, Stacks: 60_000, Samples: 1_000_000, Depth: 40}

// BenchmarkCost adds up a million samples; frames/s counts every frame of every sample.
func BenchmarkCost(b *testing.B) {
	p := invent.Profile(1, wide)
	tr := calltree.New(p)
	var frames int64
	for _, s := range p.Samples.Stack {
		frames += int64(tr.Depth[tr.NodeOf[s]])
	}
	for b.Loop() {
		calltree.Functions(tr, tr.Cost(0, scope.Scope{}))
	}
	b.ReportMetric(float64(frames)*float64(b.N)/b.Elapsed().Seconds()/1e6, "Mframes/s")
}

func BenchmarkNew(b *testing.B) {
	p := invent.Profile(1, wide)
	for b.Loop() {
		calltree.New(p)
	}
	b.ReportMetric(float64(p.Stacks.Len())*float64(b.N)/b.Elapsed().Seconds()/1e6, "Mstacks/s")
}

func BenchmarkLayout(b *testing.B) {
	tr := calltree.New(invent.Profile(1, wide))
	c := tr.Cost(0, scope.Scope{})
	for b.Loop() {
		tr.Layout(c, calltree.LayoutOptions{MinWidth: c.Total(0) / 1000})
	}
}

// TestFoldedRuntime: what the runtime's functions cost counts as their
// callers', nothing is lost, and a stack of nothing else keeps its outermost.
func TestFoldedRuntime(t *testing.T) {
	b := profile.NewBuilder()
	b.Measure("cpu", "ns", measure.Sum)
	frame := func(name string, kind profile.ModuleKind) profile.FrameID {
		m := b.Module(profile.Module{Path: b.Intern("/srv/" + kind.String()), Kind: kind})
		return b.Frame(profile.Frame{Function: b.Function(profile.Function{Name: b.Intern(name), Module: m, Kind: kind})})
	}
	run, call, main, pull, lib := frame("run", profile.KindRuntime), frame("call", profile.KindRuntime), frame("main", profile.KindOwn), frame("pull", profile.KindOwn), frame("copy", profile.KindLibrary)
	thread := b.Thread(b.Process(1), 1)
	for i, frames := range [][]profile.FrameID{{run, call, main}, {run, call, main, call, run, pull}, {run, call, main, call, run, pull, call}, {run, call, main, call, lib}, {run, call}} {
		s := profile.StackID(0)
		for _, f := range frames {
			s = b.Push(s, f)
		}
		b.Sample(int64(i), thread, s, 10)
	}
	p := b.Profile()
	tr := calltree.NewFolded(p, calltree.Runtime(p))
	c := tr.Cost(0, scope.Scope{})
	got := map[string][2]int64{}
	var sum int64
	for _, r := range calltree.Functions(tr, c) {
		got[p.FunctionName(r.Function)] = [2]int64{r.Self, r.Total}
		sum += r.Self
	}
	want := map[string][2]int64{"run": {10, 50}, "main": {10, 40}, "pull": {20, 20}, "copy": {10, 10}}
	if !maps.Equal(got, want) || sum != p.Total(0) || c.Total(0) != sum {
		t.Errorf("%v, want %v; self costs sum to %d of %d", got, want, sum, p.Total(0))
	}
	if whole := calltree.New(p); whole.Len() <= tr.Len() {
		t.Errorf("%d nodes, folded %d", whole.Len(), tr.Len())
	}
	var o int64
	for f := range p.Functions {
		if p.FunctionName(profile.FunctionID(f)) == "pull" {
			o = calltree.OriginOf(tr, tr.Cost(0, scope.Scope{}), profile.FunctionID(f)).Total
		}
	}
	if o != 20 {
		t.Errorf("the origin of pull stands for %d", o)
	}
}

func thread101(t *testing.T) scope.Scope { return read(t, "thread is 101") }

func read(t *testing.T, text string) scope.Scope {
	t.Helper()
	s, err := scope.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// Kept functions are drawn however narrow they are, with what leads to them, and
// the widths still add up.
func TestKeptFunctionsAreDrawn(t *testing.T) {
	for seed := range uint64(20) {
		p := invent.Profile(seed, invent.Small)
		tr := calltree.New(p)
		c := tr.Cost(0, scope.Scope{})
		rows := calltree.Functions(tr, c)
		rarest := rows[len(rows)-1].Function
		l := tr.Layout(c, calltree.LayoutOptions{MinWidth: c.Total(0) / 4, Keep: []profile.FunctionID{rarest}})
		drawn := map[calltree.NodeID]bool{}
		under := map[calltree.NodeID]int64{}
		for i, n := range l.Node {
			if l.Hidden[i] > 0 {
				under[n] += l.W[i]
				continue
			}
			drawn[n] = true
			if n != 0 {
				under[tr.Parent[n]] += l.W[i]
			}
		}
		for _, n := range tr.NodesOf(rarest) {
			for at := n; at != 0 && c.Total(n) > 0; at = tr.Parent[at] {
				if !drawn[at] {
					t.Fatalf("node %d on the way to node %d of a kept function is not drawn", at, n)
				}
			}
		}
		for i, n := range l.Node {
			if l.Hidden[i] == 0 && under[n]+l.Self[i] != l.W[i] {
				t.Fatalf("box of node %d is %d wide; under it are %d, its own is %d", n, l.W[i], under[n], l.Self[i])
			}
		}
	}
}
