package resolve

import (
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/linux/perf"
	"entelon/linux/perf/perftest"
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
	m := &module{Name: out, Object: o, tried: true, ready: ready, frames: map[unwind.Step][]profile.FrameID{}, Kind: profile.KindOwn}
	var facts profile.Facts
	builder := profile.NewBuilder()
	builder.Measure("cpu", "ns", measure.Sum)
	r := New(builder, &facts, &symbol.Finder{Servers: []string{"http://localhost:1"}})
	r.Modules.Known[moduleKey{name: out}] = m
	p := r.Processes.fresh(1)
	p.mapRange(mapping{0x400000, 0x402000, 0, m})
	r.Processes.threads[1] = "main"
	add := func(time uint64, addr uint64) {
		t.Helper()
		b := perftest.Sample(1, 1, time, contextUser, addr)
		if err := perf.SplitRecords(b, perftest.NoOther, func(x perf.Record) {
			seen, err := r.See(x, Form{})
			if err != nil {
				t.Fatal(err)
			}
			r.Keep(seen, 0, r.Value(0, int64(r.Sample.Period)))
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
	r.Steps = nil
	park := func(time int64, addr uint64) {
		r.Steps = []unwind.Step{{Address: addr, How: unwind.Counter}}
		if !r.fetching(p) {
			t.Fatal("nothing is on its way")
		}
		r.Keep(Seen{Of: p, At: time, Thread: r.Processes.Thread(p, 1), places: []place{r.place(p, r.Steps[0])}, end: unwind.Entry}, 0, []int64{1})
	}
	park(100, route)
	park(200, main)
	p.maps = nil // unloaded
	r.NameParked(false)
	prof := r.Builder.Profile()
	if n := prof.Samples.Len(); n != 0 {
		t.Fatalf("%d samples have names before the file is there", n)
	}
	close(ready)
	r.NameParked(false)
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
	if err := r.Close(); err != nil {
		t.Fatal(err)
	}
}

// TestTablesOfMappings: an address gets the table of what is mapped there, and
// the distance into the module's own address space.
func TestTablesOfMappings(t *testing.T) {
	var facts profile.Facts
	r := New(profile.NewBuilder(), &facts, nil)
	p := r.Processes.fresh(1)
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	m := r.Modules.get(uint32(os.Getpid()), self, moduleKey{name: self}, 0, 0)
	p.mapRange(mapping{0x10000000, 0x10400000, 0x1000, m})
	p.mapRange(mapping{0x20000000, 0x20001000, 0, &module{Name: "//anon", Kind: profile.KindJIT}})
	table, bias, mapped := p.Table(0x10000500)
	own, ok := m.Object.Address(0x1500)
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
	if err := r.Close(); err != nil {
		t.Fatal(err)
	}
}

func newTestProcesses() *Processes {
	return newProcesses(profile.NewBuilder(), newModules(nil))
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
		m := mapping{from * size, (from + n) * size, uint64(r.IntN(50)) * size, &module{}}
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

func TestReadMaps(t *testing.T) {
	ps := newTestProcesses()
	p := ps.fresh(1)
	ps.readMaps(p, strings.NewReader(`00400000-00500000 r--p 00000000 fe:00 12 /srv/a b/engraved
00500000-00600000 r-xp 00100000 fe:00 12 /srv/a b/engraved (deleted)
7f0000000000-7f0000001000 r-xp 00000000 00:00 0
broken line
7fff00000000-7fff00001000 r-xp 00000000 00:00 0 [vdso]
`))
	if len(p.maps) != 3 {
		t.Fatalf("%d executable mappings, want 3", len(p.maps))
	}
	if m := p.Find(0x500010); m == nil || m.Module.Name != "/srv/a b/engraved" || m.offset != 0x100000 {
		t.Errorf("%+v", m)
	}
	if k := p.Find(0x7f0000000010).Module.Kind; k != profile.KindJIT {
		t.Errorf("anonymous code is %s", k)
	}
}

func TestNamesFollowForkAndExec(t *testing.T) {
	ps := newTestProcesses()
	ps.comm(10, 10, "engraved", true, 1)
	ps.Known[10].mapRange(mapping{0x1000, 0x2000, 0, &module{}})
	ps.fork(11, 10, 11, 10)
	if ps.Known[11] == nil || ps.Known[11].Find(0x1800) == nil {
		t.Fatal("a child does not have its parent's mappings")
	}
	ps.comm(11, 11, "partbook", true, 2)
	if ps.Known[11].Find(0x1800) != nil || ps.Known[10].Find(0x1800) == nil {
		t.Error("exec must drop the child's mappings and leave the parent's")
	}
	ps.fork(10, 10, 12, 10) // a thread
	id := ps.Thread(ps.Known[10], 12)
	p := ps.b.Profile()
	if name := p.Strings[p.Threads[id].Name]; name != "engraved" {
		t.Errorf("a new thread is named %q, want its parent's name", name)
	}
	ps.comm(10, 12, "worker-1", false, 3)
	if name := p.Strings[p.Threads[id].Name]; name != "worker-1" {
		t.Errorf("the thread is named %q after it was renamed", name)
	}
	if name := p.Strings[p.Processes[ps.Known[10].ID].Name]; name != "engraved" {
		t.Errorf("renaming a thread renamed its process to %q", name)
	}
}

// TestStackEndsWhereTheProgramBegins: what frame pointers lead to beyond the
// entry is no frame; a stack that does not reach the entry is marked.
func TestStackEndsWhereTheProgramBegins(t *testing.T) {
	var facts profile.Facts
	r := New(profile.NewBuilder(), &facts, nil)
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
	text := func(chain ...uint64) string {
		var names []string
		prof := r.Builder.Profile()
		kernel, user := r.Split(chain)
		prof.Walk(r.stack(p, kernel, r.unwind(p, user, perf.Record{})), func(f profile.FrameID) { names = append(names, prof.FunctionName(prof.Frames[f].Function)) })
		return strings.Join(names, " < ")
	}
	for want, chain := range map[string][]uint64{
		"route < main < __libc_start_call_main":                               {contextUser, 0x10, 0x20, 0x30, 0x50},
		"route < main < __libc_start_call_main < _start":                      {contextUser, 0x10, 0x20, 0x30, 0x40, 0x50},
		"route < main < [cut off: code without call-frame tables]":            {contextUser, 0x10, 0x20},
		"[kernel]+0xffffffff81000000 < route < main < __libc_start_call_main": {contextKernel, 0xffffffff81000000, contextUser, 0x10, 0x20, 0x30},
		"clone < main < __libc_start_call_main":                               {contextUser, 0x50, 0x20, 0x30},
		"[cut off: the stack could not be read]":                              {},
	} {
		if got := text(chain...); got != want {
			t.Errorf("%#x reads\n%s, want\n%s", chain, got, want)
		}
	}
	if facts.UserStacks != 5 || facts.Complete != 4 {
		t.Errorf("%d of %d stacks are complete, want 4 of 5", facts.Complete, facts.UserStacks)
	}
}

func TestOpenMappedRefusesAReplacedFile(t *testing.T) {
	path := t.TempDir() + "/engraved"
	if err := os.WriteFile(path, []byte("new"), 0o755); err != nil {
		t.Fatal(err)
	}
	if f, err := openMapped(uint32(os.Getpid()), path, 1, 0, 0); err == nil {
		f.Close()
		t.Error("a file with another inode was taken for the mapped one")
	}
	f, err := openMapped(uint32(os.Getpid()), path, 0, 0, 0)
	if err != nil {
		t.Fatal(err)
	}
	f.Close()
}
