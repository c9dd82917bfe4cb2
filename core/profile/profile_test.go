package profile_test

import (
	"testing"

	"entelon/core/invent"
	"entelon/core/measure"
	"entelon/core/profile"
)

func TestBuilderKeepsEqualThingsOnce(t *testing.T) {
	b := profile.NewBuilder()
	f := b.Function(profile.Function{Name: b.Intern("route")})
	if again := b.Function(profile.Function{Name: b.Intern("route")}); again != f {
		t.Errorf("the same function got the numbers %d and %d", f, again)
	}
	x, y := b.Frame(profile.Frame{Function: f, Line: 1}), b.Frame(profile.Frame{Function: f, Line: 2})
	if x == y {
		t.Error("two lines of a function became one frame")
	}
	once := b.Push(0, x)
	if once != b.Push(0, x) || b.Push(b.Push(0, x), y) == b.Push(0, y) {
		t.Error("stacks are not told apart by what is above them")
	}
	if err := b.Profile().Check(); err != nil {
		t.Error(err)
	}
}

func TestMergeConserves(t *testing.T) {
	for seed := range uint64(20) {
		a, b := invent.Profile(seed, invent.Small), invent.Profile(seed+100, invent.Small)
		m, err := profile.Merge(a, b)
		if err != nil {
			t.Fatal(err)
		}
		if err := m.Check(); err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		for i := range m.Measures {
			if got, want := m.Total(i), a.Total(i)+b.Total(i); got != want {
				t.Errorf("seed %d, measure %d: total %d, want %d", seed, i, got, want)
			}
		}
		// A stack reads the same before and after.
		last := len(m.Samples.Stack) - 1
		if got, want := path(m, m.Samples.Stack[last]), path(b, b.Samples.Stack[len(b.Samples.Stack)-1]); got != want {
			t.Errorf("seed %d: the last stack is %q, was %q", seed, got, want)
		}
		twice, err := profile.Merge(a, a)
		if err != nil {
			t.Fatal(err)
		}
		if twice.Stacks.Len() != a.Stacks.Len() || len(twice.Functions) != len(a.Functions) || len(twice.Threads) != len(a.Threads) {
			t.Errorf("seed %d: a profile merged with itself gained entries in its tables", seed)
		}
	}
}

func path(p *profile.Profile, s profile.StackID) (out string) {
	p.Walk(s, func(f profile.FrameID) { out += p.FunctionName(p.Frames[f].Function) + ";" })
	return out
}

func TestMergeRefusesOtherMeasures(t *testing.T) {
	a := invent.Profile(1, invent.Small)
	b := profile.NewBuilder()
	b.Measure("bytes", "bytes", measure.Sum)
	if _, err := profile.Merge(a, b.Profile()); err == nil {
		t.Error("profiles with different measures were merged")
	}
	c := profile.NewBuilder()
	c.Measure("cpu", "ns", measure.Sum)
	c.Measure("calls", "bytes", measure.Sum)
	if _, err := profile.Merge(a, c.Profile()); err == nil {
		t.Error("a measure was merged with one of another unit")
	}
}

func TestCheckFindsEveryBrokenTable(t *testing.T) {
	if err := invent.Profile(3, invent.Small).Check(); err != nil {
		t.Fatal(err)
	}
	for name, harm := range map[string]func(*profile.Profile){
		"no strings":            func(p *profile.Profile) { p.Strings = nil },
		"first string":          func(p *profile.Profile) { p.Strings[0] = "x" },
		"module path":           func(p *profile.Profile) { p.Modules[1].Path = 1 << 20 },
		"module kind":           func(p *profile.Profile) { p.Modules[1].Kind = 99 },
		"function module":       func(p *profile.Profile) { p.Functions[1].Module = 99 },
		"function name":         func(p *profile.Profile) { p.Functions[1].Name = 1 << 20 },
		"frame function":        func(p *profile.Profile) { p.Frames[1].Function = 1 << 20 },
		"stack is its own root": func(p *profile.Profile) { p.Stacks.Parent[5] = 5 },
		"stack frame":           func(p *profile.Profile) { p.Stacks.Frame[5] = 1 << 20 },
		"stack columns":         func(p *profile.Profile) { p.Stacks.Frame = p.Stacks.Frame[1:] },
		"thread process":        func(p *profile.Profile) { p.Threads[0].Process = 9 },
		"process name":          func(p *profile.Profile) { p.Processes[0].Name = 1 << 20 },
		"measure unit":          func(p *profile.Profile) { p.Measures[0].Unit = 1 << 20 },
		"sample stack":          func(p *profile.Profile) { p.Samples.Stack[7] = 1 << 20 },
		"sample thread":         func(p *profile.Profile) { p.Samples.Thread[7] = 1 << 20 },
		"value column":          func(p *profile.Profile) { p.Samples.Values[1] = p.Samples.Values[1][1:] },
		"time column":           func(p *profile.Profile) { p.Samples.Time = p.Samples.Time[1:] },
	} {
		p := invent.Profile(3, invent.Small)
		harm(p)
		if p.Check() == nil {
			t.Errorf("%s: the harm was not found", name)
		}
	}
}

func TestOverTimeCountsEverySampleOnce(t *testing.T) {
	p := invent.Profile(4, invent.Small)
	for _, duration := range []int64{0, 1, 700_000_000, 1_600_000_000} {
		user, kernel, err := p.OverTime(0, duration, 37)
		if err != nil {
			t.Fatal(err)
		}
		var n int64
		for i := range user {
			n += user[i] + kernel[i]
		}
		if n != int64(p.Samples.Len()) {
			t.Errorf("duration %d: %d samples in the bins, want %d", duration, n, p.Samples.Len())
		}
	}
}

func TestHomeIsTheSameFromBuildToBuild(t *testing.T) {
	b := profile.NewBuilder()
	at := func(path string, kind profile.ModuleKind) string {
		m := b.Module(profile.Module{Path: b.Intern(path), Kind: kind})
		return b.Profile().Home(b.Function(profile.Function{Name: b.Intern("f"), Module: m}))
	}
	if x, y := at("/srv/engraved-3.4.0", profile.KindOwn), at("/opt/engraved-3.5.0", profile.KindOwn); x != y {
		t.Errorf("the program's own code is at home in %q and in %q", x, y)
	}
	if x, y := at("/lib/libglyph.so.1.2", profile.KindLibrary), at("/usr/lib/libglyph.so.2", profile.KindLibrary); x != y || x != "libglyph.so" {
		t.Errorf("a library is at home in %q and in %q", x, y)
	}
}
