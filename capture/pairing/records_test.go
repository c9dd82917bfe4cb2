package pairing

import (
	"testing"

	"entelon/capture/rings"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/linux/bpf"
	"entelon/linux/bpf/bpftest"
	"entelon/linux/perf"
	"entelon/linux/perf/perftest"
	"entelon/linux/tracefs"
	"entelon/resolve"
	"entelon/resolve/replay"
)

func FuzzRecords(f *testing.F) {
	f.Add(perftest.Sample(5, 6, 100, 1, 2, 3))
	f.Add(perftest.Record(perf.RecordMmap2, 0, append(perftest.Words(perftest.Who(1, 1), 0, 0, 0, 0, 0, 0, 0), append([]byte("/srv/x\x00"), perftest.Trailer(1, 1, 1)...)...)))
	f.Add(perftest.Record(perf.RecordComm, 0, append(append(perftest.Words(perftest.Who(1, 1)), "name\x00\x00\x00\x00"...), perftest.Trailer(1, 1, 1)...)))
	f.Add(append(bpftest.Record(1, 1, 5, bpf.KindGoStack, 0x7000, 1, 2), perftest.Sample(1, 1, 6, 1)...))
	f.Fuzz(func(t *testing.T, b []byte) {
		builder := profile.NewBuilder()
		ms, err := ChooseMeasures(&profile.Settings{Measures: []string{measure.Waiting, measure.Syscalls, measure.Allocations}}, builder)
		if err != nil {
			t.Fatal(err)
		}
		var facts profile.Facts
		var events []*rings.Event
		ids := map[uint64]int{}
		fields := map[string]tracefs.Field{"pid": {Offset: 8, Size: 4}, "id": {Offset: 8, Size: 8}, "nr_sector": {Offset: 8, Size: 4}, "rwbs": {Offset: 12, Size: 8}}
		for role := rings.RoleCount; role <= rings.RoleCall; role++ {
			ids[uint64(role)+77] = len(events)
			events = append(events, &rings.Event{Role: role, Column: 1, Copied: len(b)%2 == 0, Raw: len(b)%3 == 0, Point: tracefs.Tracepoint{Fields: fields}, Size: []int{0, 1}, Allocator: true})
		}
		c := NewConsumer(events, &ms, resolve.New(builder, &facts, replay.NewWorld(nil)), &facts)
		err = rings.Play(events, ids, bpftest.Is88, b, c) // a broken one is refused
		c.settle(1 << 40)
		if err == nil && builder.Profile().Check() != nil {
			t.Fatal("the records made a profile that breaks the rules")
		}
	})
}
