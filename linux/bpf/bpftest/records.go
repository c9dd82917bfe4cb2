// Package bpftest makes records as the kernel program that copies stacks writes them,
// for tests.
package bpftest

import (
	"entelon/linux/bpf"
	"entelon/linux/perf"
	"entelon/linux/perf/perftest"
)

// Record is one that the kernel program writes for event 88.
func Record(pid, tid uint32, time uint64, kind uint64, addr uint64, copied ...uint64) []byte {
	header := make([]uint64, bpf.OtherHeader/8)
	header[bpf.OtherAddr/8], header[bpf.OtherLength/8], header[bpf.OtherKind/8] = addr, uint64(8*len(copied)), kind
	header[bpf.OtherLow/8], header[bpf.OtherHigh/8], header[bpf.OtherSP/8] = 0xc000, 0xd000, 0xc800
	header[bpf.OtherPC/8], header[bpf.OtherBP/8], header[bpf.OtherSystemSP/8] = 0x401000, 0xc810, 0x7000
	b := append(perftest.Words(88, perftest.Who(pid, tid), time), 0, 0, 0, 0) // the length of what follows is not read
	return perftest.Record(perf.RecordSample, 0, append(append(b, perftest.Words(header...)...), perftest.Words(copied...)...))
}

// Is88 says that records of event 88 are the kernel program's.
func Is88(id uint64) bool { return id == 88 }
