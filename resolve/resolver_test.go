package resolve

import (
	"math/rand/v2"
	"strings"
	"testing"

	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/resolve/raw"
	"entelon/unwind"
)

// TestSamplesWaitForTheirNames: while a debug file is on its way, samples are
// walked with the mappings of their moment and wait in order; then all have
// names, though the code is not mapped any more.
func TestSamplesWaitForTheirNames(t *testing.T) {
	m := &testModule{name: "/shop/score", functions: []string{"route", "main"}, ready: make(chan struct{})}
	var facts profile.Facts
	builder := profile.NewBuilder()
	builder.Measure("cpu", "ns", measure.Sum)
	r := New(builder, &facts, testWorld{m.name: m})
	mapped := &raw.Record{Kind: raw.Mapped, PID: 1, TID: 1, Mapping: &raw.Mapping{Start: 0x10000, End: 0x12000, Name: m.name}}
	r.Processes.Apply(mapped)
	see := func(time, addr uint64) {
		t.Helper()
		x, _ := r.See(&raw.Record{Kind: raw.Sampled, PID: 1, TID: 1, Time: time, Sample: &raw.Sample{
			Period: 1, Copied: true, Known: true, Registers: registersAt(addr), Chain: []uint64{addr},
		}})
		r.Keep(x, 0, r.Value(0, 1))
	}
	see(100, 0x10010)
	see(200, 0x10110)
	r.Processes.Known[1].maps = nil // unloaded
	r.NameParked(false)
	prof := r.Builder.Profile()
	if n := prof.Samples.Len(); n != 0 {
		t.Fatalf("%d samples have names before the file is there", n)
	}
	close(m.ready)
	r.NameParked(false)
	var names []string
	for _, s := range prof.Samples.Stack {
		names = append(names, prof.FunctionName(prof.FunctionOf(s)))
	}
	if strings.Join(names, " ") != "route main" || prof.Samples.Time[0] != 100 || len(r.parked) != 0 || facts.UserStacks != 2 {
		t.Errorf("%v at %v, %d left, %d stacks", names, prof.Samples.Time, len(r.parked), facts.UserStacks)
	}
	r.Processes.Apply(mapped)
	see(300, 0x10010)
	if n := prof.Samples.Len(); n != 3 {
		t.Errorf("with nothing on its way there are %d samples, want 3", n)
	}
}

// registersAt are those of a thread at an address, with a stack that is nowhere.
func registersAt(addr uint64) (r unwind.Registers) {
	r.Set(unwind.PC, addr)
	r.Set(unwind.RSP, 0x7000)
	return r
}

// TestTablesOfMappings: an address gets the table of what is mapped there, and
// the distance into the module's own address space.
func TestTablesOfMappings(t *testing.T) {
	p := newTestProcesses().fresh(1)
	m := newModule(&testModule{name: "/shop/engraved", table: &unwind.Table{}})
	p.mapRange(mapping{0x10000000, 0x10400000, 0x1000, m})
	p.mapRange(mapping{0x20000000, 0x20001000, 0, newModule(&testModule{name: "//anon", kind: profile.KindJIT})})
	table, bias, mapped := p.Table(0x10000500)
	if table == nil || !mapped || 0x10000500-bias != 0x401500 {
		t.Errorf("own code: %v, %#x, %v", table != nil, bias, mapped)
	}
	if table, _, mapped := p.Table(0x20000010); table != nil || !mapped {
		t.Errorf("code made at run time: %v, %v", table != nil, mapped)
	}
	if _, _, mapped := p.Table(0x30000000); mapped {
		t.Error("nothing is mapped there")
	}
}

// TestMappings maps at random over each other and compares with one module for
// every single page.
func TestMappings(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 2))
	p := newTestProcesses().fresh(1)
	const pages, size = 200, 4096
	type page struct {
		m      *module
		offset uint64
	}
	var truth [pages]page
	for range 500 {
		from := uint64(r.IntN(pages - 1))
		n := 1 + uint64(r.IntN(int(min(20, pages-from))))
		m := mapping{from * size, (from + n) * size, uint64(r.IntN(50)) * size, newModule(&testModule{})}
		p.mapRange(m)
		for i := range n {
			truth[from+i] = page{m.Module, m.offset + i*size}
		}
		for i := range uint64(pages) {
			got := p.Find(i*size + 17)
			if (got == nil) != (truth[i].m == nil) {
				t.Fatalf("page %d: mapped %v, want %v", i, got != nil, truth[i].m != nil)
			}
			if got != nil && (got.Module != truth[i].m || i*size-got.start+got.offset != truth[i].offset) {
				t.Fatalf("page %d is of another mapping", i)
			}
		}
	}
	if p.Find(pages*size+1) != nil {
		t.Error("an address beyond all mappings was found in one")
	}
}

func TestNamesFollowForkAndExec(t *testing.T) {
	ps := newTestProcesses()
	named := func(pid, tid uint32, name string, exec bool, at uint64) {
		ps.Apply(&raw.Record{Kind: raw.Renamed, PID: pid, TID: tid, Name: name, Exec: exec, Time: at})
	}
	named(10, 10, "engraved", true, 1)
	ps.Known[10].mapRange(mapping{0x1000, 0x2000, 0, newModule(&testModule{})})
	ps.Apply(&raw.Record{Kind: raw.Started, PID: 11, TID: 11, Parent: raw.Parent{PID: 10, TID: 10}})
	if ps.Known[11] == nil || ps.Known[11].Find(0x1800) == nil {
		t.Fatal("a child does not have its parent's mappings")
	}
	named(11, 11, "partbook", true, 2)
	if ps.Known[11].Find(0x1800) != nil || ps.Known[10].Find(0x1800) == nil {
		t.Error("exec must drop the child's mappings and leave the parent's")
	}
	ps.Apply(&raw.Record{Kind: raw.Started, PID: 10, TID: 12, Parent: raw.Parent{PID: 10, TID: 10}}) // a thread
	id := ps.Thread(ps.Known[10], 12)
	p := ps.b.Profile()
	if name := p.Strings[p.Threads[id].Name]; name != "engraved" {
		t.Errorf("a new thread is named %q, want its parent's name", name)
	}
	named(10, 12, "worker-1", false, 3)
	if name := p.Strings[p.Threads[id].Name]; name != "worker-1" {
		t.Errorf("the thread is named %q after it was renamed", name)
	}
	if name := p.Strings[p.Processes[ps.Known[10].id].Name]; name != "engraved" {
		t.Errorf("renaming a thread renamed its process to %q", name)
	}
}

// TestStackEndsWhereTheProgramBegins: what frame pointers lead to beyond the
// entry is no frame; a stack that does not reach the entry is marked.
func TestStackEndsWhereTheProgramBegins(t *testing.T) {
	var facts profile.Facts
	r := newTestResolver(profile.NewBuilder(), &facts)
	p := r.Processes.fresh(1)
	fn := func(addr uint64, name string, entry bool) {
		f := r.Builder.Function(profile.Function{Name: r.Builder.Intern(name), Entry: entry})
		for _, how := range []unwind.How{unwind.Counter, unwind.FramePointer} {
			p.frames[unwind.Step{Address: addr, How: how}] = []profile.FrameID{r.Builder.Frame(profile.Frame{Function: f, Address: addr})}
		}
	}
	fn(0x10, "route", false)
	fn(0x1f, "main", false)
	fn(0x2f, "__libc_start_call_main", true)
	fn(0x3f, "_start", true)
	fn(0x4f, "garbage", false)
	fn(0x50, "clone", true)
	text := func(kernel []uint64, chain ...uint64) string {
		var names []string
		prof := r.Builder.Profile()
		x, _ := r.See(&raw.Record{Kind: raw.Sampled, PID: 1, TID: 1, Sample: &raw.Sample{Kernel: kernel, Chain: chain}})
		prof.Walk(x.Stack, func(f profile.FrameID) { names = append(names, prof.FunctionName(prof.Frames[f].Function)) })
		return strings.Join(names, " < ")
	}
	for want, got := range map[string]string{
		"route < main < __libc_start_call_main":                               text(nil, 0x10, 0x20, 0x30, 0x50),
		"route < main < __libc_start_call_main < _start":                      text(nil, 0x10, 0x20, 0x30, 0x40, 0x50),
		"route < main < [cut off: code without call-frame tables]":            text(nil, 0x10, 0x20),
		"[kernel]+0xffffffff81000000 < route < main < __libc_start_call_main": text([]uint64{0xffffffff81000000}, 0x10, 0x20, 0x30),
		"clone < main < __libc_start_call_main":                               text(nil, 0x50, 0x20, 0x30),
		"[cut off: the stack could not be read]":                              text(nil),
	} {
		if got != want {
			t.Errorf("it reads\n%s, want\n%s", got, want)
		}
	}
	if facts.UserStacks != 5 || facts.Complete != 4 {
		t.Errorf("%d of %d stacks are complete, want 4 of 5", facts.Complete, facts.UserStacks)
	}
}
