package sampler

import (
	"encoding/binary"
	"math/rand/v2"
	"os"
	"reflect"
	"sort"
	"strings"
	"testing"

	"entelon/linux/bpf"

	"entelon/linux/perf"

	"entelon/linux/tracefs"

	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/unwind"
)

func TestParseProcessors(t *testing.T) {
	for list, want := range map[string][]int{"0": {0}, "0-2": {0, 1, 2}, "0-1,4,6-7": {0, 1, 4, 6, 7}} {
		if got, err := perf.ParseProcessors(list); err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%q: %v, %v", list, got, err)
		}
	}
	for _, list := range []string{"", "x", "3-1", "0-99999999"} {
		if got, err := perf.ParseProcessors(list); err == nil {
			t.Errorf("%q was read as %v", list, got)
		}
	}
}

// encode makes one record as the kernel writes it.
func encode(kind uint32, misc uint16, body []byte) []byte {
	b := make([]byte, 8, 8+len(body))
	binary.NativeEndian.PutUint32(b, kind)
	binary.NativeEndian.PutUint16(b[4:], misc)
	binary.NativeEndian.PutUint16(b[6:], uint16(8+len(body)))
	return append(b, body...)
}

func words(v ...uint64) (b []byte) {
	for _, x := range v {
		b = binary.NativeEndian.AppendUint64(b, x)
	}
	return b
}

func who(pid, tid uint32) uint64 {
	return binary.NativeEndian.Uint64(append(binary.NativeEndian.AppendUint32(nil, pid), binary.NativeEndian.AppendUint32(nil, tid)...))
}

func trailerOf(pid, tid uint32, time uint64) []byte { return words(who(pid, tid), time, 0, 77) }

func sampleOf(pid, tid uint32, time uint64, chain ...uint64) []byte {
	b := words(77, 0x1000, who(pid, tid), time, 0, 1_003_009, uint64(len(chain)))
	return encode(perf.RecordSample, 0, append(b, words(chain...)...))
}

func noOther(uint64) bool { return false }

func TestSplitRecords(t *testing.T) {
	b := append(sampleOf(5, 6, 100, 1, 2, 3), encode(perf.RecordLost, 0, append(words(77, 12), trailerOf(5, 6, 90)...))...)
	var got []perf.Record
	if err := perf.SplitRecords(b, noOther, func(r perf.Record) { got = append(got, r) }); err != nil {
		t.Fatal(err)
	}
	if len(got) != 2 || got[0].Time != 100 || got[0].PID != 5 || got[0].TID != 6 || got[1].Time != 90 || got[1].ID != 77 {
		t.Fatalf("%+v", got)
	}
	var s perf.Sample
	if !s.Decode(got[0], false, false, false) || s.Period != 1_003_009 || !reflect.DeepEqual(s.Chain, []uint64{1, 2, 3}) {
		t.Errorf("%+v", s)
	}
	if perf.Word(got[1].Body[len(got[1].Body)-8:]) != 12 {
		t.Error("the number of lost records is not where it is looked for")
	}
	for n := 1; n < len(b); n++ { // a ring never hands over a part, but if it did
		_ = perf.SplitRecords(b[:n], noOther, func(r perf.Record) {
			s.Decode(r, false, false, false)
			s.Decode(r, true, false, false)
			s.Decode(r, true, true, false)
		})
	}
	lie := sampleOf(1, 1, 1, 5)
	binary.NativeEndian.PutUint64(lie[8+48:], 1<<40)
	if err := perf.SplitRecords(lie, noOther, func(r perf.Record) {
		if s.Decode(r, false, false, false) {
			t.Error("a chain longer than its record was decoded")
		}
	}); err != nil {
		t.Fatal(err)
	}
}

func FuzzRecords(f *testing.F) {
	f.Add(sampleOf(5, 6, 100, 1, 2, 3))
	f.Add(encode(perf.RecordMmap2, 0, append(words(who(1, 1), 0, 0, 0, 0, 0, 0, 0), append([]byte("/srv/x\x00"), trailerOf(1, 1, 1)...)...)))
	f.Add(encode(perf.RecordComm, 0, append(append(words(who(1, 1)), "name\x00\x00\x00\x00"...), trailerOf(1, 1, 1)...)))
	f.Add(append(otherOf(1, 1, 5, bpf.KindGoStack, 0x7000, 1, 2), sampleOf(1, 1, 6, 1)...))
	f.Fuzz(func(t *testing.T, b []byte) {
		s := &session{builder: profile.NewBuilder(), lastCalls: map[uint32]lastCall{}, target: &target{byID: map[uint64]*source{}}}
		r := newResolver(s.builder, &s.facts, nil)
		s.resolver = r
		s.o.Settings.Measures = []string{measure.Waiting, measure.Syscalls, measure.Allocations}
		if err := s.chooseMeasures(); err != nil {
			t.Fatal(err)
		}
		fields := map[string]tracefs.Field{"pid": {Offset: 8, Size: 4}, "id": {Offset: 8, Size: 8}, "nr_sector": {Offset: 8, Size: 4}, "rwbs": {Offset: 12, Size: 8}}
		for role := roleCount; role <= roleCall; role++ {
			s.target.byID[uint64(role)+7] = &source{role: role, column: 1, copied: len(b)%2 == 0, raw: len(b)%3 == 0, point: tracefs.Tracepoint{Fields: fields}, size: []int{0, 1}, allocator: true}
		}
		pairs := bpf.Pairing{}
		handle := func(x perf.Record) { _ = s.record(x) } // a broken one is refused
		err := perf.SplitRecords(b, isOther88, func(x perf.Record) { pairs.Visit(x, handle) })
		s.settle()
		if err == nil && r.b.Profile().Check() != nil {
			t.Fatal("the records made a profile that breaks the rules")
		}
		if err := r.close(); err != nil {
			t.Fatal(err)
		}
	})
}

// TestOrder delivers the records of several rings, some of them late by less
// than a round, and expects each once and in order of time.
func TestOrder(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	const rounds, length = 50, 1000
	late := map[int][]perf.Record{}
	n := 0
	for i := range rounds {
		for range 40 {
			x := perf.Record{Time: uint64(i*length + r.IntN(length)), TID: uint32(n)}
			n++
			arrives := i
			if r.IntN(10) == 0 && int(x.Time)%length > length/2 { // written just as its ring was drained
				arrives++
			}
			late[arrives] = append(late[arrives], x)
		}
	}
	var o order
	var got []perf.Record
	visit := func(x perf.Record) { got = append(got, x) }
	for i := range rounds + 1 {
		o.add(late[i], uint64((i+1)*length-1), visit)
	}
	o.flush(visit)
	if len(got) != n {
		t.Fatalf("%d of %d records were handed on", len(got), n)
	}
	if !sort.SliceIsSorted(got, func(i, j int) bool { return got[i].Time < got[j].Time }) {
		t.Error("they are not in order of time")
	}
}

func newTestProcesses() *processes {
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
			truth[from+i] = page{m.module, m.offset + i*size}
		}
		for i := range uint64(pages) {
			got := p.find(i*size + 17)
			if (got == nil) != (truth[i].m == nil) {
				t.Fatalf("page %d: mapped %v, want %v", i, got != nil, truth[i].m != nil)
			}
			if got != nil && (got.module != truth[i].m || i*size-got.start+got.offset != truth[i].offset) {
				t.Fatalf("page %d is of another mapping", i)
			}
		}
	}
	if p.find(pages*size+1) != nil {
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
	if m := p.find(0x500010); m == nil || m.module.name != "/srv/a b/engraved" || m.offset != 0x100000 {
		t.Errorf("%+v", m)
	}
	if k := p.find(0x7f0000000010).module.kind; k != profile.KindJIT {
		t.Errorf("anonymous code is %s", k)
	}
}

func TestNamesFollowForkAndExec(t *testing.T) {
	ps := newTestProcesses()
	ps.comm(10, 10, "engraved", true, 1)
	ps.known[10].mapRange(mapping{0x1000, 0x2000, 0, &module{}})
	ps.fork(11, 10, 11, 10)
	if ps.known[11] == nil || ps.known[11].find(0x1800) == nil {
		t.Fatal("a child does not have its parent's mappings")
	}
	ps.comm(11, 11, "partbook", true, 2)
	if ps.known[11].find(0x1800) != nil || ps.known[10].find(0x1800) == nil {
		t.Error("exec must drop the child's mappings and leave the parent's")
	}
	ps.fork(10, 10, 12, 10) // a thread
	id := ps.thread(ps.known[10], 12)
	p := ps.b.Profile()
	if name := p.Strings[p.Threads[id].Name]; name != "engraved" {
		t.Errorf("a new thread is named %q, want its parent's name", name)
	}
	ps.comm(10, 12, "worker-1", false, 3)
	if name := p.Strings[p.Threads[id].Name]; name != "worker-1" {
		t.Errorf("the thread is named %q after it was renamed", name)
	}
	if name := p.Strings[p.Processes[ps.known[10].id].Name]; name != "engraved" {
		t.Errorf("renaming a thread renamed its process to %q", name)
	}
}

// TestStackEndsWhereTheProgramBegins: what frame pointers lead to beyond the
// entry is no frame; a stack that does not reach the entry is marked.
func TestStackEndsWhereTheProgramBegins(t *testing.T) {
	var facts profile.Facts
	r := newResolver(profile.NewBuilder(), &facts, nil)
	p := r.ps.fresh(1)
	fn := func(addr uint64, name string, entry bool) {
		f := r.b.Function(profile.Function{Name: r.b.Intern(name), Entry: entry})
		for _, how := range []unwind.How{unwind.Counter, unwind.FramePointer} {
			p.frames[unwind.Step{Address: addr, How: how}] = []profile.FrameID{r.b.Frame(profile.Frame{Function: f, Address: addr})}
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
		prof := r.b.Profile()
		kernel, user := r.split(chain)
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

// TestDoubled: a thread that was found late may have inherited an event too.
func TestDoubled(t *testing.T) {
	tg := &target{late: map[uint64]uint32{900: 5}, inherited: map[uint32]bool{}}
	for i, x := range []struct {
		id   uint64
		tid  uint32
		want bool
	}{{900, 5, false}, {100, 6, false}, {900, 5, false}, {100, 5, false}, {900, 5, true}, {100, 5, false}} {
		if got := tg.doubled(perf.Record{ID: x.id, TID: x.tid}); got != x.want {
			t.Errorf("step %d: %v, want %v", i, got, x.want)
		}
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
