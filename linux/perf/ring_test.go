package perf_test

import (
	"encoding/binary"
	"reflect"
	"testing"

	"entelon/linux/perf"
	"entelon/linux/perf/perftest"
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

func TestSplitRecords(t *testing.T) {
	b := append(perftest.Sample(5, 6, 100, 1, 2, 3), perftest.Record(perf.RecordLost, 0, append(perftest.Words(77, 12), perftest.Trailer(5, 6, 90)...))...)
	var got []perf.Record
	if err := perf.SplitRecords(b, perftest.NoOther, func(r perf.Record) { got = append(got, r) }); err != nil {
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
		_ = perf.SplitRecords(b[:n], perftest.NoOther, func(r perf.Record) {
			s.Decode(r, false, false, false)
			s.Decode(r, true, false, false)
			s.Decode(r, true, true, false)
		})
	}
	lie := perftest.Sample(1, 1, 1, 5)
	binary.NativeEndian.PutUint64(lie[8+48:], 1<<40)
	if err := perf.SplitRecords(lie, perftest.NoOther, func(r perf.Record) {
		if s.Decode(r, false, false, false) {
			t.Error("a chain longer than its record was decoded")
		}
	}); err != nil {
		t.Fatal(err)
	}
}

// TestDecodeStack: registers come in the order in which they were asked for, and the
// copy tells whether the stack may go on.
func TestDecodeStack(t *testing.T) {
	encodeStack := func(abi uint64, room, used uint64) []byte {
		b := perftest.Words(77, 0x1000, perftest.Who(5, 6), 100, 0, 1_003_009, 1, 0x1000, abi)
		if abi != 0 {
			for i := range perf.SampledRegisters {
				b = append(b, perftest.Words(uint64(100+perf.SampledRegisters[i]))...)
			}
		}
		b = append(b, perftest.Words(room)...)
		if room > 0 {
			b = append(append(b, make([]byte, room)...), perftest.Words(used)...)
		}
		return b
	}
	for _, c := range []struct {
		name            string
		abi, room, used uint64
		ok, known, full bool
	}{
		{"all of the copy", 2, 64, 64, true, true, true},
		{"up to the stack's begin", 2, 64, 40, true, true, false},
		{"a thread of the kernel", 0, 0, 0, true, false, false},
		{"code for 32 bits", 1, 64, 64, true, false, true},
		{"more than there is room", 2, 64, 72, false, true, false},
	} {
		var s perf.Sample
		ok := s.Decode(perf.Record{Kind: perf.RecordSample, Body: encodeStack(c.abi, c.room, c.used)}, true, false, false)
		if ok != c.ok || s.Known != c.known || s.Full != c.full || ok && uint64(len(s.Stack)) != c.used {
			t.Errorf("%s: %v, registers %#x, %d bytes, full %v", c.name, ok, s.Registers, len(s.Stack), s.Full)
		}
		for i, r := range perf.SampledRegisters {
			if c.known && s.Registers[i] != uint64(100+r) {
				t.Errorf("%s: %v", c.name, s.Registers)
			}
		}
	}
	whole := encodeStack(2, 64, 64)
	for n := 56; n < len(whole); n++ {
		var s perf.Sample
		if s.Decode(perf.Record{Kind: perf.RecordSample, Body: whole[:n]}, true, false, false) {
			t.Fatalf("%d of %d bytes are taken for a sample", n, len(whole))
		}
	}
}
