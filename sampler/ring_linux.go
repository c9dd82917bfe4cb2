package sampler

import (
	"encoding/binary"
	"errors"
	"fmt"
	"sync/atomic"
	"unsafe"

	"golang.org/x/sys/unix"

	"entelon/unwind"
)

// ringBytes is the size of one processor's ring. At 997 samples a second with
// 4 KiB of stack each it holds nearly two seconds. The kernel wakes the drainer
// whenever wakeBytes are new.
const (
	ringBytes = 8 << 20
	wakeBytes = 512 << 10
)

// eventRingBytes is how much memory all rings have together where every event
// of some kind is written down: such events come in bursts.
const eventRingBytes = 256 << 20

// ringSize is the size of each of so many rings.
func ringSize(n int, events bool) int {
	size := ringBytes
	for events && size < 64<<20 && 2*size*n <= eventRingBytes {
		size *= 2
	}
	return size
}

// smallRingBytes is the size of a ring for what happens besides samples.
const smallRingBytes = 256 << 10

// minRingBytes is the smallest ring that is tried where locked memory is short.
const minRingBytes = 64 << 10

// ring is the memory that the kernel shares with us for one processor: a page
// of positions, then a power-of-two area of records that wraps around. The
// kernel advances data_head, we advance data_tail.
type ring struct {
	fd   int
	mem  []byte
	page *unix.PerfEventMmapPage
	data []byte
}

func mapRing(fd, size int) (*ring, error) {
	pageSize := unix.Getpagesize()
	for ; ; size /= 2 {
		mem, err := unix.Mmap(fd, 0, pageSize+size, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
		if err == nil {
			return &ring{fd: fd, mem: mem, page: (*unix.PerfEventMmapPage)(unsafe.Pointer(&mem[0])), data: mem[pageSize:]}, nil
		}
		if !errors.Is(err, unix.EPERM) && !errors.Is(err, unix.ENOMEM) || size/2 < minRingBytes {
			return nil, fmt.Errorf("mapping a ring of %d bytes: %w", size, err)
		}
	}
}

func (r *ring) close() error { return unix.Munmap(r.mem) }

// drain appends all whole records to out and gives their room back to the kernel.
func (r *ring) drain(out []byte) []byte {
	head := atomic.LoadUint64(&r.page.Data_head)
	tail := r.page.Data_tail
	size := uint64(len(r.data))
	if head == tail {
		return out
	}
	from, to := tail%size, head%size
	if from < to {
		out = append(out, r.data[from:to]...)
	} else {
		out = append(out, r.data[from:]...)
		out = append(out, r.data[:to]...)
	}
	atomic.StoreUint64(&r.page.Data_tail, head)
	return out
}

// The kinds of record that are read (enum perf_event_type).
const (
	recMmap        = 1
	recLost        = 2
	recComm        = 3
	recExit        = 4
	recThrottle    = 5
	recUnthrottle  = 6
	recFork        = 7
	recSample      = 9
	recMmap2       = 10
	recLostSamples = 13
	recSwitch      = 14
	recSwitchAny   = 15 // the same, where everyone is sampled

	recOther = 1 << 16 // our own: a record of the reader of other stacks

	miscCommExec  = 1 << 13 // PERF_RECORD_MISC_COMM_EXEC
	miscSwitchOut = 1 << 13 // PERF_RECORD_MISC_SWITCH_OUT
	miscPreempted = 1 << 14 // PERF_RECORD_MISC_SWITCH_OUT_PREEMPT
)

// record is one record, undecoded but for what ordering needs. body lacks the
// header, and for all kinds but samples also the trailing identification.
type record struct {
	kind uint32
	misc uint16
	pid  uint32
	tid  uint32
	time uint64 // CLOCK_MONOTONIC nanoseconds
	id   uint64 // the event; inherited events carry that of their ancestor
	body []byte
	// others are the copies of other stacks that belong to a sample.
	others [][]byte
}

// trailer is what sample_id_all appends to a record: pid, tid, time, cpu and
// reserved word, identifier.
const trailer = 32

// splitRecords cuts drained bytes into records. It stops at the first one
// that does not fit, which would mean that the ring was overrun.
// isOther tells which samples come from the reader of other stacks.
func splitRecords(b []byte, isOther func(id uint64) bool, visit func(record)) error {
	ne := binary.NativeEndian
	for len(b) >= 8 {
		r := record{kind: ne.Uint32(b), misc: ne.Uint16(b[4:])}
		size := int(ne.Uint16(b[6:]))
		if size < 8 || size > len(b) {
			return fmt.Errorf("a record of %d bytes in the %d that are left", size, len(b))
		}
		body := b[8:size]
		b = b[size:]
		if r.kind == recSample && len(body) >= 24 && isOther(ne.Uint64(body)) {
			// identifier, pid+tid, time, then what the program wrote
			r.kind = recOther
			r.pid, r.tid = ne.Uint32(body[8:]), ne.Uint32(body[12:])
			r.time = ne.Uint64(body[16:])
			r.body = body
		} else if r.kind == recSample {
			// identifier, ip, pid+tid, time, cpu, period, callchain
			if len(body) < 48 {
				return fmt.Errorf("a sample of %d bytes", size)
			}
			r.id = ne.Uint64(body)
			r.pid, r.tid = ne.Uint32(body[16:]), ne.Uint32(body[20:])
			r.time = ne.Uint64(body[24:])
			r.body = body
		} else {
			if len(body) < trailer {
				continue
			}
			t := body[len(body)-trailer:]
			r.pid, r.tid = ne.Uint32(t), ne.Uint32(t[4:])
			r.time = ne.Uint64(t[8:])
			r.id = ne.Uint64(t[24:])
			r.body = body[:len(body)-trailer]
		}
		visit(r)
	}
	return nil
}

func nativeUint64(b []byte) uint64 { return binary.NativeEndian.Uint64(b) }

// sample is a decoded sample record.
type sample struct {
	period    uint64
	running   uint64   // for how long the event ran, in nanoseconds, where it tells
	chain     []uint64 // aliases nothing; reused between calls
	registers unwind.Registers
	stack     []byte // aliases the record
	full      bool   // the stack may be longer than the copy
	raw       []byte // of a tracepoint; aliases the record
}

// decode reads a record. copied tells whether registers and stack are in it,
// raw whether a tracepoint's own record is, timed whether the time is for which
// the event ran.
func (s *sample) decode(r record, copied, raw, timed bool) bool {
	ne := binary.NativeEndian
	b := r.body
	if len(b) < 56 {
		return false
	}
	s.period = ne.Uint64(b[40:])
	if b = b[48:]; timed { // PERF_SAMPLE_READ: the count and the time
		if len(b) < 24 {
			return false
		}
		s.running, b = ne.Uint64(b[8:]), b[16:]
	}
	n := ne.Uint64(b)
	b = b[8:]
	if n > uint64(len(b)/8) {
		return false
	}
	s.chain = s.chain[:0]
	for i := range n {
		s.chain = append(s.chain, ne.Uint64(b[8*i:]))
	}
	s.registers, s.stack, s.full, s.raw = unwind.Registers{}, nil, false, nil
	b = b[8*n:]
	if raw {
		var ok bool
		if s.raw, b, ok = cutRaw(b); !ok {
			return false
		}
	}
	return !copied || s.decodeStack(b)
}

// cutRaw takes a tracepoint's own record off: its length, then its bytes.
func cutRaw(b []byte) (raw, rest []byte, ok bool) {
	if len(b) < 4 {
		return nil, nil, false
	}
	n := int(binary.NativeEndian.Uint32(b))
	if n < 0 || n > len(b)-4 {
		return nil, nil, false
	}
	return b[4 : 4+n], b[4+n:], true
}

// rawOf returns the tracepoint's own record of a sample that has no call chain.
func rawOf(r record) []byte {
	if len(r.body) < 48 {
		return nil
	}
	raw, _, _ := cutRaw(r.body[48:])
	return raw
}

// decodeStack reads what follows the call chain: the ABI of the registers (0
// where there are none, as in a kernel thread) and the registers; the room for
// the stack, the stack, and how much of the room is used.
func (s *sample) decodeStack(b []byte) bool {
	ne := binary.NativeEndian
	const abi64 = 2 // PERF_SAMPLE_REGS_ABI_64
	if len(b) < 8 {
		return false
	}
	abi := ne.Uint64(b)
	b = b[8:]
	if abi != 0 {
		if len(b) < 8*len(sampledRegisters) {
			return false
		}
		for i, r := range sampledRegisters {
			if abi == abi64 { // code for 32 bits has other registers
				s.registers.Set(r.number, ne.Uint64(b[8*i:]))
			}
		}
		b = b[8*len(sampledRegisters):]
	}
	if len(b) < 8 {
		return false
	}
	room := ne.Uint64(b)
	b = b[8:]
	if room == 0 {
		return true
	}
	if room > uint64(len(b)) || uint64(len(b))-room < 8 {
		return false
	}
	used := ne.Uint64(b[room:])
	if used > room {
		return false
	}
	s.stack, s.full = b[:used], used == room
	return true
}

// mmap2 is a decoded record of an executable mapping.
type mmap2 struct {
	pid, tid         uint32
	addr, len, pgoff uint64
	maj, min         uint32
	inode            uint64
	name             string
}

func decodeMmap2(b []byte) (m mmap2, ok bool) {
	ne := binary.NativeEndian
	if len(b) < 64 {
		return m, false
	}
	m.pid, m.tid = ne.Uint32(b), ne.Uint32(b[4:])
	m.addr, m.len, m.pgoff = ne.Uint64(b[8:]), ne.Uint64(b[16:]), ne.Uint64(b[24:])
	m.maj, m.min, m.inode = ne.Uint32(b[32:]), ne.Uint32(b[36:]), ne.Uint64(b[40:])
	m.name = unix.ByteSliceToString(b[64:])
	return m, true
}
