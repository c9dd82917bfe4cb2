package reading_test

import (
	"strings"
	"testing"

	"entelon/core/calltree"
	"entelon/core/invent"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/reading"
	"entelon/core/scope"
)

func read(p *profile.Profile) string {
	t := calltree.New(p)
	c := t.Cost(0, scope.Scope{})
	var b strings.Builder
	for _, part := range reading.New(t).Take(c, calltree.Functions(t, c)) {
		b.WriteString(part.Text)
	}
	return b.String()
}

func TestReadingNamesWhatDominates(t *testing.T) {
	b := profile.NewBuilder()
	b.Measure("cpu", "ns", measure.Sum)
	th := b.Thread(b.Process(1), 1)
	f := func(name string) profile.FrameID {
		return b.Frame(profile.Frame{Function: b.Function(profile.Function{Name: b.Intern(name)})})
	}
	main := b.Push(0, f("main.main"))
	route := b.Push(main, f("shop/slur.Route"))
	b.Sample(0, th, b.Push(route, f("shop/slur.(*Skyline).Height")), 80)
	b.Sample(1, th, b.Push(main, f("shop/beam.Group")), 20)
	text := read(b.Profile())
	for _, want := range []string{"slur.(*Skyline).Height itself takes 80 %", "always when called by slur.Route"} {
		if !strings.Contains(text, want) {
			t.Errorf("the reading lacks %q: %s", want, text)
		}
	}
}

// TestReadingOfTwoThreads: where the first step halves the cost, it does not
// say that the cost stays together.
func TestReadingOfTwoThreads(t *testing.T) {
	for want, weights := range map[string][2]int64{"The cost stays on one path down to ": {70, 1}, "The heaviest path leads to ": {26, 26}} {
		b := profile.NewBuilder()
		b.Measure("cpu", "ns", measure.Sum)
		th := b.Thread(b.Process(1), 1)
		f := func(name string) profile.FrameID {
			return b.Frame(profile.Frame{Function: b.Function(profile.Function{Name: b.Intern(name)})})
		}
		for i, root := range []string{"main", "worker"} {
			fill := b.Push(b.Push(0, f(root)), f("fill"))
			for k, callee := range []string{"mix", "blend", "cover"} {
				b.Sample(0, th, b.Push(fill, f(callee)), weights[i]/3+int64(k%2)+int64(1-i))
			}
			b.Sample(0, th, b.Push(b.Push(0, f(root)), f("other")), weights[i]/4+1)
		}
		if text := read(b.Profile()); !strings.Contains(text, want) {
			t.Errorf("%v: %s", weights, text)
		}
	}
}

func TestReadingOfNothing(t *testing.T) {
	p := invent.Profile(1, invent.Small)
	tr := calltree.New(p)
	c := tr.Cost(0, scope.Between(1<<60, 0))
	if parts := reading.New(tr).Take(c, calltree.Functions(tr, c)); len(parts) != 1 || !strings.Contains(parts[0].Text, "no cost") {
		t.Errorf("of an empty scope it says %v", parts)
	}
}

func TestShort(t *testing.T) {
	for name, want := range map[string]string{
		"entelon/demo/slur.(*Skyline).Height": "slur.(*Skyline).Height",
		"main.main":                           "main.main",
		"ink::Raster::fill(int, Span const&)": "ink::Raster::fill",
		"slices.Sort[...]":                    "slices.Sort[…]",
		"[cut off: code]":                     "[cut off: code]",
		"libc.so.6+0x27180":                   "libc.so.6+0x27180",
		"operator()(int)":                     "operator()",
		"void std::__linear_insert<ink::Edge*, std::less<ink::Edge> >(ink::Edge*, std::less<ink::Edge>)": "std::__linear_insert<…>",
		"ink::Raster::fill(int)::{lambda(Span const&)#1}::operator()(Span const&) const":                 "ink::Raster::fill::{lambda#1}::operator()",
		"std::vector<float, std::allocator<float> >::operator[](unsigned long)":                          "std::vector<…>::operator[]",
		"std::ostream& operator<< <char>(std::ostream&, char)":                                           "operator<< <…>",
		"ink::Page::operator bool() const":                                                               "ink::Page::operator bool",
		"ink::(anonymous namespace)::draw(double)":                                                       "ink::(anonymous)::draw",
		"<score::Round as score::Shape>::cover":                                                          "<Round as Shape>::cover",
		"<alloc::vec::Vec<T> as core::ops::Drop>::drop":                                                  "<Vec<…> as Drop>::drop",
		"core::ops::function::FnOnce::call_once{{vtable.shim}}":                                          "core::ops::function::FnOnce::call_once{{vtable.shim}}",
		"score::caught::{{closure}}":                                                                     "score::caught::{{closure}}",
		"unsigned char const& std::max<unsigned char>(unsigned char const&, unsigned char const&)":       "std::max<…>",
		"main.closed.func1":              "main.closed.func1",
		"Bar.of.<locals>.<listcomp>":     "Bar.of.<listcomp>",
		"Part.<lambda>":                  "Part.<lambda>",
		"<module> partbook.py":           "<module> partbook.py",
		"pull.<locals>.bar.<locals>.one": "pull.bar.one",
		"shop.print.Press.ink(int)":      "shop.print.Press.ink",
		"(anonymous page.ts:12)":         "(anonymous page.ts:12)",
		"net/http.(*conn).serve":         "http.(*conn).serve",
	} {
		if got := profile.Short(name); got != want {
			t.Errorf("%q is shown as %q, want %q", name, got, want)
		}
	}
}

// TestReadingOfWaits: what was waited for is said first, then which function
// of the program waited most.
func TestReadingOfWaits(t *testing.T) {
	b := profile.NewBuilder()
	b.Column(measure.Column{Name: "waiting", Unit: "ns", Counted: true})
	th := b.Thread(b.Process(1), 1)
	frame := func(name string, kind profile.ModuleKind) profile.FrameID {
		return b.Frame(profile.Frame{Function: b.Function(profile.Function{Name: b.Intern(name), Kind: kind})})
	}
	stack := func(names ...profile.FrameID) (s profile.StackID) {
		for _, f := range names {
			s = b.Push(s, f)
		}
		return s
	}
	main, fetch, dry := frame("main", profile.KindOwn), frame("fetch", profile.KindOwn), frame("dry", profile.KindOwn)
	kernel, lock, sleeps := frame("schedule", profile.KindKernel), b.Mark(profile.WaitLock, profile.WaitLock.Key()), b.Mark(profile.WaitSleep, profile.WaitSleep.Key())
	b.Sample(0, th, stack(main, fetch, kernel, lock), 60)
	b.Sample(1, th, stack(main, dry, kernel, lock), 20)
	b.Sample(2, th, stack(main, dry, kernel, sleeps), 20)
	tr := calltree.New(b.Profile())
	c := tr.Cost(0, scope.Scope{})
	var text strings.Builder
	for _, p := range reading.New(tr).Take(c, calltree.Functions(tr, c)) {
		text.WriteString(p.Text)
	}
	if want := "80 % of the waiting time: [waits for a lock], 75 % of that in fetch."; !strings.HasPrefix(text.String(), want) {
		t.Errorf("%q does not begin with %q", text.String(), want)
	}
}

// The reading says whose code it is and what looks like housekeeping, with the
// function to blame.
func TestWhoseAndWhat(t *testing.T) {
	b := profile.NewBuilder()
	b.Measure("cpu", "ns", measure.Sum)
	frame := func(name string, kind profile.ModuleKind) profile.FrameID {
		m := b.Module(profile.Module{Path: b.Intern("/srv/" + kind.String()), Kind: kind})
		return b.Frame(profile.Frame{Function: b.Function(profile.Function{Name: b.Intern(name), Module: m, Kind: kind})})
	}
	th := b.Thread(b.Process(1), 1)
	add := func(v int64, fs ...profile.FrameID) {
		s := profile.StackID(0)
		for _, f := range fs {
			s = b.Push(s, f)
		}
		b.Sample(0, th, s, v)
	}
	main, own := frame("main.main", profile.KindOwn), frame("slur.Route", profile.KindOwn)
	add(40, main, own)
	add(20, main, own, frame("malloc", profile.KindLibrary), frame("memset", profile.KindLibrary)) // memory, not copying
	add(15, main, frame("strconv.AppendFloat", profile.KindLibrary))
	add(14, frame("runtime.findRunnable", profile.KindRuntime), frame("futex", profile.KindKernel))
	add(8, frame("runtime.findRunnable", profile.KindRuntime), own) // called from a loop that waits: no idling
	add(3, main, frame("sync.(*Mutex).Lock", profile.KindLibrary))
	tr := calltree.New(b.Profile())
	c := tr.Cost(0, scope.Scope{})
	text := ""
	for _, p := range reading.New(tr).Take(c, calltree.Functions(tr, c)) {
		text += p.Text
	}
	for _, want := range []string{
		"48 % is in the program's own code, 38 % in libraries, 14 % in the kernel.",
		"20 % looks like allocating and freeing memory (malloc) and 15 % looks like formatting and parsing text (strconv.AppendFloat), judging by function names.",
		"14 % is idling",
	} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is not in: %s", want, text)
		}
	}
	if strings.Contains(text, "copying") || strings.Contains(text, "locking") {
		t.Errorf("too much is said: %s", text)
	}
}
