// Package perftest makes records as the kernel writes them, for tests.
package perftest

import (
	"encoding/binary"

	"entelon/linux/perf"
)

// Record makes one record as the kernel writes it.
func Record(kind uint32, misc uint16, body []byte) []byte {
	b := make([]byte, 8, 8+len(body))
	binary.NativeEndian.PutUint32(b, kind)
	binary.NativeEndian.PutUint16(b[4:], misc)
	binary.NativeEndian.PutUint16(b[6:], uint16(8+len(body)))
	return append(b, body...)
}

// Words are numbers as the kernel writes them.
func Words(v ...uint64) (b []byte) {
	for _, x := range v {
		b = binary.NativeEndian.AppendUint64(b, x)
	}
	return b
}

// Who is a process and a thread in one word.
func Who(pid, tid uint32) uint64 {
	return binary.NativeEndian.Uint64(append(binary.NativeEndian.AppendUint32(nil, pid), binary.NativeEndian.AppendUint32(nil, tid)...))
}

// Trailer is what follows every record but samples, of event 77.
func Trailer(pid, tid uint32, time uint64) []byte { return Words(Who(pid, tid), time, 0, 77) }

// Sample is one with a call chain, of event 77.
func Sample(pid, tid uint32, time uint64, chain ...uint64) []byte {
	b := Words(77, 0x1000, Who(pid, tid), time, 0, 1_003_009, uint64(len(chain)))
	return Record(perf.RecordSample, 0, append(b, Words(chain...)...))
}

// NoOther is what says that no record is of the reader of other stacks.
func NoOther(uint64) bool { return false }
