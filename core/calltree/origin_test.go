package calltree_test

import (
	"reflect"
	"testing"

	"entelon/core/calltree"
	"entelon/core/invent"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scope"
)

// TestOriginAddsUp: for every function, what was found in each way and at each
// line sums to the total that the hot-function table shows.
func TestOriginAddsUp(t *testing.T) {
	for seed := range uint64(10) {
		p := invent.Profile(seed, invent.Small)
		tr := calltree.New(p)
		for _, sc := range []scope.Scope{{}, scope.Between(200e6, 900e6)} {
			cost := tr.Cost(0, sc)
			for _, r := range calltree.Functions(tr, cost) {
				o := calltree.OriginOf(tr, cost, r.Function)
				var found, lines, into int64
				for _, x := range o.Found {
					found += x.Value
				}
				for _, x := range o.Lines {
					lines += x.Value
				}
				for _, x := range o.Into {
					into += x.Value
				}
				if o.Total != r.Total || found != r.Total || lines != r.Total || into != o.Inlined || o.Inlined > r.Total {
					t.Fatalf("function %d has %d, by origin %+v", r.Function, r.Total, o)
				}
			}
		}
	}
}

func TestOriginTellsInlinedAndCutOff(t *testing.T) {
	b := profile.NewBuilder()
	b.Measure("cpu", "ns", measure.Sum)
	frame := func(name string, line uint32, kind profile.ModuleKind, inlined bool, found profile.Found) profile.FrameID {
		f := b.Function(profile.Function{Name: b.Intern(name), Kind: kind})
		return b.Frame(profile.Frame{Function: f, Line: line, Inlined: inlined, Found: found})
	}
	const own = profile.KindOwn
	main := b.Push(0, frame("main", 9, own, false, profile.FoundTables))
	fill := b.Push(main, frame("fill", 5, own, false, profile.FoundTables))
	direct := b.Push(fill, frame("mix", 1, own, true, profile.FoundTables))
	deeper := b.Push(b.Push(fill, frame("line", 3, own, true, profile.FoundCounter)), frame("mix", 2, own, true, profile.FoundCounter))
	alone := b.Push(b.Push(0, b.Mark(profile.CutTooMany, "any key")), frame("mix", 1, own, false, profile.FoundFramePointer))
	p := b.Process(1)
	th := b.Thread(p, 1)
	for stack, v := range map[profile.StackID]int64{direct: 5, deeper: 2, alone: 1} {
		b.Sample(0, th, stack, v)
	}
	prof := b.Profile()
	tr := calltree.New(prof)
	name := func(f profile.FunctionID) string { return prof.FunctionName(f) }
	var mix profile.FunctionID
	for i, f := range prof.Functions {
		if prof.Strings[f.Name] == "mix" {
			mix = profile.FunctionID(i)
		}
	}
	o := calltree.OriginOf(tr, tr.Cost(0, scope.Scope{}), mix)
	if o.Total != 8 || o.Inlined != 7 || o.CutOff != 1 || len(o.Into) != 1 || name(o.Into[0].Function) != "fill" || o.Into[0].Value != 7 {
		t.Errorf("%+v", o)
	}
	if want := []calltree.FoundValue{{profile.FoundTables, 5}, {profile.FoundCounter, 2}, {profile.FoundFramePointer, 1}}; !reflect.DeepEqual(o.Found, want) {
		t.Errorf("found %v, want %v", o.Found, want)
	}
	if want := []calltree.FoundValue{{profile.FoundTables, 7}}; !reflect.DeepEqual(o.Callers, want) {
		t.Errorf("callers %v, want %v", o.Callers, want)
	}
	if want := []calltree.LineValue{{1, 6}, {2, 2}}; !reflect.DeepEqual(o.Lines, want) {
		t.Errorf("lines %v, want %v", o.Lines, want)
	}
}
