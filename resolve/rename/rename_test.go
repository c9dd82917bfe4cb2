package rename

import (
	"reflect"
	"testing"

	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/symbol"
)

// table names addresses.
type table map[uint64][]symbol.Location

func (t table) Locate(address uint64) []symbol.Location { return t[address] }

// made is a profile of a program without names: main at 0x10 calls into a library at 0x20
// and 0x28, of which the second is an inlined call that had a name before.
func made() (p *profile.Profile, library profile.ModuleID) {
	b := profile.NewBuilder()
	b.Column(measure.Column{Name: "cpu", Unit: "ns"})
	own := b.Module(profile.Module{Path: b.Intern("/shop/inkraster"), BuildID: b.Intern("aa"), Kind: profile.KindOwn})
	library = b.Module(profile.Module{Path: b.Intern("/shop/libfill.so"), BuildID: b.Intern("bb"), Kind: profile.KindLibrary})
	frame := func(m profile.ModuleID, name string, address uint64, inlined bool) profile.FrameID {
		return b.Frame(profile.Frame{Function: b.Function(profile.Function{Name: b.Intern(name), Module: m}), Address: address, Inlined: inlined, Found: profile.FoundTables})
	}
	main := b.Push(0, frame(own, "main", 0x10, false))
	x := b.Push(main, frame(library, "libfill.so+0x20", 0x20, false))
	outer := b.Push(main, frame(library, "old", 0x28, false))
	inner := b.Push(outer, frame(library, "older", 0x28, true))
	beyond := b.Push(inner, frame(library, "libfill.so+0x30", 0x30, false))
	mark := b.Push(x, b.Frame(profile.Frame{Function: b.Function(profile.Function{Name: b.Intern("[system call read]"), Kind: profile.KindMark, Mark: profile.CutDeeper})}))
	thread := b.Thread(b.Process(7), 8)
	b.NameThread(thread, "fill")
	b.NameProcess(0, "inkraster")
	for i, s := range []profile.StackID{x, inner, beyond, mark, main, 0} {
		b.Sample(int64(i), thread, s, int64(1)<<i)
		b.Labelled(b.Label(0, "page", "4"))
	}
	return b.Profile(), library
}

// stacks are the samples by their stacks in words, the outermost function first.
func stacks(p *profile.Profile) map[string]int64 {
	out := map[string]int64{}
	for i, s := range p.Samples.Stack {
		text := ""
		p.Walk(s, func(f profile.FrameID) {
			mark := ";"
			if p.Frames[f].Inlined {
				mark = ">"
			}
			text = mark + p.FunctionName(p.Frames[f].Function) + text
		})
		out[text] += p.Samples.Values[0][i]
	}
	return out
}

func TestNamesBecomeKnown(t *testing.T) {
	p, library := made()
	before := stacks(p)
	names := table{
		0x20: {{Name: "span", Inlined: true, File: "span.c", Line: 4}, {Name: "fill", File: "fill.c", Line: 9, Start: 2}},
		0x28: {{Name: "blend", Inlined: true}, {Name: "cover", Inlined: true}, {Name: "fill"}},
		0x30: {{Name: "libfill.so+0x30", Unnamed: true}},
	}
	named, changed := Profile(p, map[profile.ModuleID]Namer{library: names})
	want := map[string]int64{
		";main;fill>span": 1, ";main;fill>cover>blend": 2, ";main;fill>cover>blend;libfill.so+0x30": 4,
		";main;fill>span;[system call read]": 8, ";main": 16, "": 32,
	}
	if got := stacks(named); !reflect.DeepEqual(got, want) || changed != 2 {
		t.Errorf("%d changed: %v", changed, got)
	}
	if err := named.Check(); err != nil {
		t.Error(err)
	}
	if !reflect.DeepEqual(stacks(p), before) {
		t.Error("the profile that was given is another one")
	}
	if named.HasFunction("libfill.so+0x20") || named.HasFunction("older") {
		t.Error("a name from before is still there")
	}
	if s := named.Samples; !reflect.DeepEqual(s.Time, p.Samples.Time) || len(s.Labels) != s.Len() || named.String(named.LabelSets.Value[s.Labels[3]]) != "4" ||
		named.String(named.Threads[s.Thread[0]].Name) != "fill" || named.String(named.Processes[0].Name) != "inkraster" {
		t.Error("not everything else stays")
	}
	if n := UnnamedSamples(p); n["/shop/libfill.so"] != 3 {
		t.Errorf("%v have no name", n)
	}
	if n := UnnamedSamples(named); n["/shop/libfill.so"] != 1 {
		t.Errorf("%v have no name afterwards", n)
	}
	again, changed := Profile(named, map[profile.ModuleID]Namer{library: names})
	if !reflect.DeepEqual(stacks(again), want) || changed != 0 {
		t.Errorf("a second time %d changed: %v", changed, stacks(again))
	}
}

func TestFiles(t *testing.T) {
	p, library := made()
	files, total := Files(p)
	if total != 63 || len(files) != 2 || files[0].Path != "/shop/inkraster" || files[0].Cost != 31 || files[0].Unnamed != 0 ||
		files[1].Module != library || files[1].Cost != 15 || files[1].Unnamed != 1+4+8 || files[1].BuildID != "bb" {
		t.Errorf("of %d: %+v", total, files)
	}
	if n := SamplesIn(p, map[profile.ModuleID]bool{library: true}); n["libfill.so"] != 3 {
		t.Errorf("%v", n)
	}
}
