package pairing

import (
	"encoding/binary"
	"testing"

	"entelon/capture/rings"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/linux/tracefs"
	"entelon/resolve"
	"entelon/resolve/raw"
	"entelon/resolve/replay"
)

// TestWaitsFromRecords walks one thread through switches, wake-ups and ends,
// with the kernel's records made by hand.
func TestWaitsFromRecords(t *testing.T) {
	s := testConsumer(t, measure.Waiting)
	s.resolver.Origin = 1000
	wait := func(tid uint32, begin uint64) *wait {
		p := s.resolver.Processes.Get(7)
		return &wait{Seen: resolve.Seen{At: s.resolver.Since(begin), Of: p, Thread: s.resolver.Processes.Thread(p, tid), Ready: true, Stack: s.resolver.Builder.Push(0, s.resolver.Builder.Mark(profile.MarkOther, "main"))}, begin: begin, reason: profile.WaitSleep}
	}
	sum := func() map[string]int64 {
		out := map[string]int64{}
		p := s.resolver.Builder.Profile()
		for i, st := range p.Samples.Stack {
			out[p.FunctionName(p.FunctionOf(st))] += p.Samples.Values[0][i]
		}
		return out
	}
	expect := func(what string, want map[string]int64) {
		t.Helper()
		got := sum()
		for k, v := range want {
			if got[k] != v {
				t.Errorf("%s: %s is %d, want %d", what, k, got[k], v)
			}
		}
	}
	back := func(tid uint32, at uint64) *raw.Record {
		return &raw.Record{Kind: raw.SwitchedIn, TID: tid, Time: at}
	}

	s.Waits.open[1] = wait(1, 2000)
	s.Waits.woke(1, 2600)
	s.Waits.woke(1, 2700) // the first one counts
	s.Waits.switched(back(1, 3000))
	expect("woken", map[string]int64{"[sleeps]": 600, "[waits for a processor]": 400})

	s.Waits.open[1] = wait(1, 4000)
	s.Waits.switched(&raw.Record{Kind: raw.SwitchedOut, Preempted: true, TID: 1, Time: 4001})
	s.Waits.switched(back(1, 4100))
	expect("preempted", map[string]int64{"[sleeps]": 600, "[waits for a processor]": 500})

	s.Waits.open[1] = wait(1, 500) // before the take began
	s.Waits.switched(back(1, 1100))
	expect("from before", map[string]int64{"[sleeps]": 700})

	s.Waits.open[1] = wait(1, 5000)
	s.Visit(&raw.Record{Kind: raw.Ended, PID: 7, TID: 1, Time: 5100})
	s.Waits.switched(back(1, 5200)) // nobody comes back from the dead
	expect("ended", map[string]int64{"[sleeps]": 700})

	s.Waits.open[2] = wait(2, 6000)
	s.Waits.woke(2, 5000) // of an earlier wait
	s.Waits.finish(6300)
	expect("still going on", map[string]int64{"[sleeps]": 1000, "[waits for a processor]": 500})
	if len(s.Waits.open) != 0 || s.resolver.Builder.Profile().Check() != nil {
		t.Error("something is left open, or the profile breaks its rules")
	}
}

// testConsumer measures what is named, in a world that knows nothing.
func testConsumer(t *testing.T, names ...string) *Consumer {
	t.Helper()
	return consumerIn(t, replay.NewWorld(nil), names...)
}

func consumerIn(t *testing.T, w resolve.World, names ...string) *Consumer {
	t.Helper()
	b := profile.NewBuilder()
	ms, err := ChooseMeasures(&profile.Settings{Measures: names}, b)
	if err != nil {
		t.Fatal(err)
	}
	var facts profile.Facts
	return NewConsumer(nil, &ms, resolve.New(b, &facts, w), &facts)
}

func TestReasonsOfWaits(t *testing.T) {
	for name, want := range map[string]profile.Mark{
		"futex_wait_queue": profile.WaitLock, "do_nanosleep": profile.WaitSleep, "io_schedule": profile.WaitDisk, "tcp_recvmsg_locked": profile.WaitNetwork,
		"ep_poll": profile.WaitEvents, "anon_pipe_read": profile.WaitInput, "do_wait": profile.WaitProcess, "schedule": 0, "main": 0, "do_waiting": 0,
	} {
		if got := reasonOfName(name); got != want {
			t.Errorf("%s: %q, want %q", name, got.Words(), want.Words())
		}
	}
	if got := reasonOfStack("[<0>] futex_wait_queue+0x6b/0xa0\n[<0>] do_syscall_64+0x3d/0x90\n"); got != profile.WaitLock {
		t.Errorf("%q", got.Words())
	}
	if got := reasonOfStack("rubbish\n[<0>]\n"); got != profile.WaitUnknown {
		t.Errorf("%q", got.Words())
	}
}

// TestSystemCallsFromRecords: what was going on at the end, and what had begun
// before, counts too.
func TestSystemCallsFromRecords(t *testing.T) {
	b := profile.NewBuilder()
	b.Measure("syscall-time", "ns", measure.Sum)
	b.Measure("syscalls", "count", measure.Sum)
	var facts profile.Facts
	r := resolve.New(b, &facts, replay.NewWorld(nil))
	r.Origin = 100
	c := newSystemCalls(r)
	e := &rings.Event{Role: rings.RoleLeave, Raw: true, Point: tracefs.Tracepoint{Fields: map[string]tracefs.Field{"id": {Offset: 8, Size: 8}}}}
	leave := func(tid uint32, at, number uint64) {
		data := binary.NativeEndian.AppendUint64(make([]byte, 8), number)
		c.leave(&raw.Record{Kind: raw.Sampled, PID: 7, TID: tid, Time: at, Sample: &raw.Sample{Data: data}}, e)
	}
	leave(1, 400, 0) // a read that began before the take
	r.Processes.Apply(&raw.Record{Kind: raw.Started, PID: 7, TID: 2, Time: 350, Parent: raw.Parent{PID: 7, TID: 7}})
	leave(2, 400, 56) // a new thread comes back from the call that made it
	leave(3, 400, ^uint64(0))
	p := r.Processes.Get(7)
	c.open[4] = systemCall{Seen: resolve.Seen{Of: p, Thread: r.Processes.Thread(p, 4), Ready: true}, begin: 500, mark: c.mark(999)}
	c.finish(800)
	got := map[string][2]int64{}
	for i, s := range b.Profile().Samples.Stack {
		k := b.Profile().FunctionName(b.Profile().FunctionOf(s))
		v := got[k]
		got[k] = [2]int64{v[0] + b.Profile().Samples.Values[0][i], v[1] + b.Profile().Samples.Values[1][i]}
	}
	for k, want := range map[string][2]int64{"[system call read]": {300, 1}, "[system call clone]": {50, 1}, "[system call 999]": {300, 1}} {
		if got[k] != want {
			t.Errorf("%s: %v, want %v", k, got[k], want)
		}
	}
	if len(got) != 3 {
		t.Errorf("%v", got)
	}
}
