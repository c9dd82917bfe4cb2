// Package bpftest makes records as the kernel program that copies stacks writes them,
// for tests.
package bpftest

import (
	"encoding/binary"

	"entelon/linux/bpf"
	"entelon/linux/perf"
	"entelon/linux/perf/perftest"
)

// Body is a record that the kernel program writes for event 88, without the header
// that the kernel's own records have. Its length is that of the bytes given.
func Body(pid, tid uint32, time uint64, h bpf.Header, bytes []byte) []byte {
	h.Length = uint64(len(bytes))
	b := append(perftest.Words(88, perftest.Who(pid, tid), time), 0, 0, 0, 0) // the length of what follows is not read
	for _, w := range []uint64{h.Addr, h.Length, h.Kind, h.Low, h.High, h.Sp, h.Pc, h.Bp, h.SystemSp, h.Slot} {
		b = binary.NativeEndian.AppendUint64(b, w)
	}
	return append(b, bytes...)
}

// Record is a part of a stack.
func Record(pid, tid uint32, time uint64, kind uint64, addr uint64, copied ...uint64) []byte {
	h := bpf.Header{Addr: addr, Kind: kind, Low: 0xc000, High: 0xd000, Sp: 0xc800, Pc: 0x401000, Bp: 0xc810, SystemSp: 0x7000}
	return perftest.Record(perf.RecordSample, 0, Body(pid, tid, time, h, perftest.Words(copied...)))
}

// Is88 says that records of event 88 are the kernel program's.
func Is88(id uint64) bool { return id == 88 }
