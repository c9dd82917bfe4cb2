package pairing

import (
	"encoding/binary"
	"math/rand/v2"
	"testing"

	"entelon/capture/rings"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/linux/tracefs"
	"entelon/resolve/raw"
	"entelon/unwind"
)

// kernelCounts plays what adds up system calls in the kernel: threads make calls at a few
// places, some calls give a sample, some of these are lost, and all sums are read now and
// then, when samples from before are still on their way.
type kernelCounts struct {
	of    map[raw.Class]*raw.Tally
	queue []*raw.Record // samples on their way, in the order of time
	time  uint64
	count int64
	sum   int64
}

func (k *kernelCounts) call(r *rand.Rand) {
	k.time += 100
	c := raw.Class{PID: 7, TID: uint32(1 + r.IntN(3)), IP: uint64(0x1000 * (1 + r.IntN(4))), SP: 0x7000, What: uint32(r.IntN(2))}
	t := k.of[c]
	if t == nil {
		t = &raw.Tally{Class: c}
		k.of[c] = t
	}
	if r.IntN(5) == 0 { // it is written down, and every third of those is lost
		before := *t
		s := &raw.Sample{Copied: true, Known: true, Tally: &before}
		if r.IntN(4) == 0 {
			s.Tally = nil // or its sums were
		}
		s.Registers.Set(unwind.PC, c.IP)
		if r.IntN(3) > 0 {
			k.queue = append(k.queue, &raw.Record{Kind: raw.Sampled, PID: c.PID, TID: c.TID, Time: k.time, Sample: s})
		}
	}
	took := int64(1 + r.IntN(50))
	t.Count++
	t.Sum += took
	k.count++
	k.sum += took
}

func (k *kernelCounts) read(c *Consumer, last bool) {
	for _, t := range k.of {
		now := *t
		c.Visit(&raw.Record{Kind: raw.Tallied, PID: now.Class.PID, TID: now.Class.TID, Tally: &now, Last: last})
	}
}

func (k *kernelCounts) deliver(c *Consumer, n int) {
	for range min(n, len(k.queue)) {
		c.Visit(k.queue[0])
		k.queue = k.queue[1:]
	}
}

// TestTalliesLoseNothing: whatever becomes of samples, and whenever sums are read, the
// totals are those that the kernel has added up, by thread and by call.
func TestTalliesLoseNothing(t *testing.T) {
	for seed := range uint64(40) {
		r := rand.New(rand.NewPCG(seed, 1))
		c := testConsumer(t, measure.Syscalls)
		c.events = []*rings.Event{{Role: rings.RoleEnter, Tallied: true, Copied: true}}
		c.resolver.Origin = 1
		k := &kernelCounts{of: map[raw.Class]*raw.Tally{}, time: 1000}
		for range 2000 {
			k.call(r)
			if r.IntN(100) == 0 {
				k.read(c, false)
			}
			if r.IntN(20) == 0 {
				k.deliver(c, r.IntN(10))
			}
		}
		k.deliver(c, len(k.queue))
		k.read(c, true)
		c.resolver.NameParked(true)
		p := c.resolver.Builder.Profile()
		if err := p.Check(); err != nil {
			t.Fatal(err)
		}
		if p.Total(0) != k.sum || p.Total(1) != k.count || c.Counted.Events[0] != k.count || len(c.tallies.of) != 0 {
			t.Fatalf("seed %d: %d ns in %d calls, and %d counted; there were %d in %d; %d classes are left", seed, p.Total(0), p.Total(1), c.Counted.Events[0], k.sum, k.count, len(c.tallies.of))
		}
		want, got := map[uint32]int64{}, map[uint32]int64{}
		for _, x := range k.of {
			want[x.Class.TID] += x.Sum
		}
		for i, id := range p.Samples.Thread {
			got[p.Threads[id].TID] += p.Samples.Values[0][i]
		}
		for tid, w := range want {
			if got[tid] != w {
				t.Errorf("seed %d: thread %d has %d, not %d", seed, tid, got[tid], w)
			}
		}
	}
}

// TestTalliesOfWhatGoesOn: what is going on when the collection ends counts up to then,
// once, and a class without any sample says where it was.
func TestTalliesOfWhatGoesOn(t *testing.T) {
	c := testConsumer(t, measure.Waiting)
	c.events = []*rings.Event{{Role: rings.RoleSwitch, Tallied: true, Copied: true}}
	class := raw.Class{PID: 7, TID: 3, IP: 0x1000, SP: 0x7000}
	before := raw.Class{PID: 7, TID: 4, Before: true}
	c.Waits.before[4] = profile.WaitNetwork
	c.Visit(&raw.Record{Kind: raw.GoingOn, PID: 7, TID: 3, Tally: &raw.Tally{Class: class, Sum: 500, Run: 20}})
	c.Visit(&raw.Record{Kind: raw.GoingOn, PID: 7, TID: 4, Tally: &raw.Tally{Class: before, Sum: 900}})
	c.Visit(&raw.Record{Kind: raw.Tallied, PID: 7, TID: 3, Last: true, Tally: &raw.Tally{Class: class, Count: 3, Sum: 1000, Run: 7}})
	c.Visit(&raw.Record{Kind: raw.Tallied, PID: 7, TID: 4, Last: true, Tally: &raw.Tally{Class: before, Count: 1}})
	c.resolver.NameParked(true)
	p := c.resolver.Builder.Profile()
	got := map[string]int64{}
	for i, s := range p.Samples.Stack {
		got[p.FunctionName(p.FunctionOf(s))] += p.Samples.Values[0][i]
	}
	want := map[string]int64{"[waits for something else]": 1500, "[waits for a processor]": 27, "[waits for the network]": 900}
	for name, v := range want {
		if got[name] != v {
			t.Errorf("%s: %d, not %d", name, got[name], v)
		}
	}
	if p.Total(0) != 2427 {
		t.Errorf("%d in all: %v", p.Total(0), got)
	}
}

// TestNothingIsLongByLoss: after records were lost, what was going on is incomplete: it
// counts, but without a time that may be another's.
func TestNothingIsLongByLoss(t *testing.T) {
	c := testConsumer(t, measure.Syscalls)
	point := tracefs.Tracepoint{Fields: map[string]tracefs.Field{"id": {Offset: 8, Size: 8}}}
	c.events = []*rings.Event{{Role: rings.RoleEnter, Raw: true, Point: point}, {Role: rings.RoleLeave, Raw: true, Point: point}}
	event := func(n int, tid uint32, at, number uint64) {
		data := binary.NativeEndian.AppendUint64(make([]byte, 8), number)
		c.Visit(&raw.Record{Kind: raw.Sampled, Event: n, PID: 7, TID: tid, Time: at, Sample: &raw.Sample{Data: data}})
	}
	event(0, 1, 1000, 0)
	event(0, 2, 1000, 1)
	c.Visit(&raw.Record{Kind: raw.SamplesLost, Count: 5, Time: 1100})
	event(0, 2, 900_000, 0)
	event(1, 2, 900_010, 0)
	event(0, 3, 900_020, 3)
	event(1, 3, 950_000, 4) // of another call
	event(1, 4, 990_000, 4) // whose beginning was lost
	p := c.resolver.Builder.Profile()
	if p.Total(0) != 10 || p.Total(1) != 5 {
		t.Errorf("%d ns in %d calls", p.Total(0), p.Total(1))
	}
}
