package sampler

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"entelon/linux/perf"

	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/symbol"
	"entelon/unwind"
)

// TestSamplesWaitForTheirNames: while a debug file is on its way, samples are
// walked with the mappings of their moment and wait in order; then all have
// names, though the code is not mapped any more.
func TestSamplesWaitForTheirNames(t *testing.T) {
	text, out := filepath.Join(t.TempDir(), "score.c"), filepath.Join(t.TempDir(), "score")
	if err := os.WriteFile(text, []byte("int route(int x) { return x * 3; }\nint main(int c, char **v) { return route(c); }\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if b, err := exec.Command("cc", "-O0", "-g", "-no-pie", "-o", out, text).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, b)
	}
	f, err := os.Open(out)
	if err != nil {
		t.Fatal(err)
	}
	o, err := symbol.OpenObject(f, out, profile.KindOwn, nil)
	if err != nil {
		t.Fatal(err)
	}
	ready := make(chan struct{})
	m := &module{name: out, object: o, tried: true, ready: ready, frames: map[unwind.Step][]profile.FrameID{}, kind: profile.KindOwn}
	var facts profile.Facts
	from := &source{}
	builder := profile.NewBuilder()
	builder.Measure("cpu", "ns", measure.Sum)
	r := newResolver(builder, &facts, &symbol.Finder{Servers: []string{"http://localhost:1"}})
	r.modules.known[moduleKey{name: out}] = m
	p := r.ps.fresh(1)
	p.mapRange(mapping{0x400000, 0x402000, 0, m})
	r.ps.threads[1] = "main"
	add := func(time uint64, addr uint64) {
		t.Helper()
		b := sampleOf(1, 1, time, contextUser, addr)
		if err := perf.SplitRecords(b, noOther, func(x perf.Record) {
			if err := r.add(x, from); err != nil {
				t.Fatal(err)
			}
		}); err != nil {
			t.Fatal(err)
		}
	}
	var route, main uint64
	for addr := uint64(0x401000); addr < 0x402000; addr++ {
		switch l := o.Locate(addr)[0]; {
		case l.Name == "route" && route == 0:
			route = addr
		case l.Name == "main" && main == 0:
			main = addr
		}
	}
	if route == 0 || main == 0 {
		t.Fatal("the program's functions are not where they should be")
	}
	r.copied = true // the chain is then not asked for names, as it is by frame pointers alone
	r.steps = nil
	park := func(time int64, addr uint64) {
		r.steps = []unwind.Step{{Address: addr, How: unwind.Counter}}
		if !r.fetching(p) {
			t.Fatal("nothing is on its way")
		}
		r.keep(seen{of: p, at: time, thread: r.ps.thread(p, 1), places: []place{r.place(p, r.steps[0])}, end: unwind.Entry}, 0, []int64{1})
	}
	park(100, route)
	park(200, main)
	p.maps = nil // unloaded
	r.nameParked(false)
	prof := r.b.Profile()
	if n := prof.Samples.Len(); n != 0 {
		t.Fatalf("%d samples have names before the file is there", n)
	}
	close(ready)
	r.nameParked(false)
	var names []string
	for _, s := range prof.Samples.Stack {
		names = append(names, prof.FunctionName(prof.FunctionOf(s)))
	}
	if strings.Join(names, " ") != "route main" || prof.Samples.Time[0] != 100 || len(r.parked) != 0 || facts.Complete != 2 {
		t.Errorf("%v at %v, %d left, %d complete", names, prof.Samples.Time, len(r.parked), facts.Complete)
	}
	p.mapRange(mapping{0x400000, 0x402000, 0, m})
	add(300, route)
	if n := prof.Samples.Len(); n != 3 {
		t.Errorf("with nothing on its way there are %d samples, want 3", n)
	}
	if err := r.close(); err != nil {
		t.Fatal(err)
	}
}

// TestTablesOfMappings: an address gets the table of what is mapped there, and
// the distance into the module's own address space.
func TestTablesOfMappings(t *testing.T) {
	var facts profile.Facts
	r := newResolver(profile.NewBuilder(), &facts, nil)
	p := r.ps.fresh(1)
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	m := r.modules.get(uint32(os.Getpid()), self, moduleKey{name: self}, 0, 0)
	p.mapRange(mapping{0x10000000, 0x10400000, 0x1000, m})
	p.mapRange(mapping{0x20000000, 0x20001000, 0, &module{name: "//anon", kind: profile.KindJIT}})
	table, bias, mapped := p.Table(0x10000500)
	own, ok := m.object.Address(0x1500)
	if table == nil || !mapped || !ok || 0x10000500-bias != own {
		t.Errorf("own code: %v, %#x, %v; the address should be %#x", table != nil, bias, mapped, own)
	}
	if again, _, _ := p.Table(0x10000600); again != table {
		t.Error("the table was compiled twice")
	}
	if table, _, mapped := p.Table(0x20000010); table != nil || !mapped {
		t.Errorf("code made at run time: %v, %v", table != nil, mapped)
	}
	if _, _, mapped := p.Table(0x30000000); mapped {
		t.Error("nothing is mapped there")
	}
	if m.goRuntime() == nil { // this test is a Go program
		t.Error("the Go runtime was not recognised")
	}
	if err := r.close(); err != nil {
		t.Fatal(err)
	}
}

// TestWarnCut: the remedy fits the most frequent reason.
func TestWarnCut(t *testing.T) {
	for _, c := range []struct {
		reason unwind.End
		set    profile.Settings
		remedy string
	}{
		{unwind.Deeper, profile.Settings{Unwind: UnwindTables, StackBytes: 4096}, "--stack 8k"},
		{unwind.Deeper, profile.Settings{Unwind: UnwindTables, StackBytes: MaxStackBytes}, "Nothing deeper"},
		{unwind.OtherStack, profile.Settings{Unwind: UnwindTables}, "as root"},
		{unwind.NoTable, profile.Settings{Unwind: UnwindFramePointers}, "--unwind tables"},
		{unwind.NoTable, profile.Settings{Unwind: UnwindTables}, "Build libblot.so with -fasynchronous-unwind-tables"},
		{unwind.Circle, profile.Settings{Unwind: UnwindTables}, "self costs"},
	} {
		s := &session{o: Options{Settings: c.set}}
		s.resolver = newResolver(profile.NewBuilder(), &s.facts, nil)
		s.resolver.noTable["/srv/libblot.so"] = 7
		s.facts.UserStacks, s.facts.Complete = 100, 95
		s.facts.CutOff = []profile.Cut{profile.CutBy(cutMarks[c.reason], 5)}
		s.warnCut()
		if len(s.facts.Warnings) != 1 || !strings.Contains(s.facts.Warnings[0].Remedy, c.remedy) || !strings.Contains(s.facts.Warnings[0].Text, profile.CutBy(cutMarks[c.reason], 5).Words()+" (5)") {
			t.Errorf("%v: %+v, want %q", c.reason, s.facts.Warnings, c.remedy)
		}
		s.facts.Warnings, s.o.Settings.CutShare = nil, 0.06
		if s.warnCut(); len(s.facts.Warnings) != 0 {
			t.Errorf("%v: below the share that was set: %+v", c.reason, s.facts.Warnings)
		}
	}
}
