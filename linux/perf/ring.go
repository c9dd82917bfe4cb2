package perf

import (
	"encoding/binary"
	"errors"
	"fmt"
	"sync/atomic"
	"unsafe"

	"golang.org/x/sys/unix"
)

// ringBytes is the size of one processor's ring. At 997 samples a second with
// 4 KiB of stack each it holds nearly four seconds, and sixty samples with stacks as deep
// as are copied at all. The kernel wakes the drainer whenever wakeBytes are new.
const (
	ringBytes = 16 << 20
	WakeBytes = 512 << 10
)

// eventRingBytes is how much memory all rings have together where every event
// of some kind is written down: such events come in bursts.
const eventRingBytes = 256 << 20

// slowHz is the rate up to which a quarter of that is enough, since it holds as long as
// the whole does at 997. The kernel clears a ring before the program may begin, so a
// smaller one lets it begin sooner.
const slowHz = 250

// RingSize is the size of each of so many rings, at a rate of samples.
func RingSize(n, rateHz int, events bool) int {
	size := ringBytes
	if rateHz <= slowHz {
		size /= 4
	}
	for events && size < 64<<20 && 2*size*n <= eventRingBytes {
		size *= 2
	}
	return size
}

// SmallRingBytes is the size of a ring for what happens besides samples.
const SmallRingBytes = 256 << 10

// minRingBytes is the smallest ring that is tried where locked memory is short.
const minRingBytes = 64 << 10

// Ring is the memory that the kernel shares with us for one processor: a page
// of positions, then a power-of-two area of records that wraps around. The
// kernel advances data_head, we advance data_tail.
type Ring struct {
	FD   int
	mem  []byte
	page *unix.PerfEventMmapPage
	data []byte
}

// MapRing maps the ring of an event, of a size in bytes, or of less where locked memory
// is short.
func MapRing(fd, size int) (*Ring, error) {
	pageSize := unix.Getpagesize()
	for ; ; size /= 2 {
		mem, err := unix.Mmap(fd, 0, pageSize+size, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
		if err == nil {
			return &Ring{FD: fd, mem: mem, page: (*unix.PerfEventMmapPage)(unsafe.Pointer(&mem[0])), data: mem[pageSize:]}, nil
		}
		if !errors.Is(err, unix.EPERM) && !errors.Is(err, unix.ENOMEM) || size/2 < minRingBytes {
			return nil, fmt.Errorf("mapping a ring of %d bytes: %w", size, err)
		}
	}
}

// Close unmaps it.
func (r *Ring) Close() error { return unix.Munmap(r.mem) }

// Drain appends all whole records to out and gives their room back to the kernel.
func (r *Ring) Drain(out []byte) []byte {
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
	recMmap           = 1
	RecordLost        = 2
	RecordComm        = 3
	RecordExit        = 4
	RecordThrottle    = 5
	recUnthrottle     = 6
	RecordFork        = 7
	RecordSample      = 9
	RecordMmap2       = 10
	RecordLostSamples = 13
	RecordSwitch      = 14
	RecordSwitchAny   = 15 // the same, where everyone is sampled

	RecordOther = 1 << 16 // our own: a record of the reader of other stacks

	MiscCommExec  = 1 << 13 // PERF_RECORD_MISC_COMM_EXEC
	MiscSwitchOut = 1 << 13 // PERF_RECORD_MISC_SWITCH_OUT
	MiscPreempted = 1 << 14 // PERF_RECORD_MISC_SWITCH_OUT_PREEMPT
)

// Record is one record, undecoded but for what ordering needs. body lacks the
// header, and for all kinds but samples also the trailing identification.
type Record struct {
	Kind uint32
	Misc uint16
	PID  uint32
	TID  uint32
	Time uint64 // CLOCK_MONOTONIC nanoseconds
	ID   uint64 // the event; inherited events carry that of their ancestor
	Body []byte
	// others are the copies of other stacks that belong to a sample.
	Others [][]byte
}

// trailer is what sample_id_all appends to a record: pid, tid, time, cpu and
// reserved word, identifier.
const trailer = 32

// SplitRecords cuts drained bytes into records. It stops at the first one
// that does not fit, which would mean that the ring was overrun.
// isOther tells which samples come from the reader of other stacks.
func SplitRecords(b []byte, isOther func(id uint64) bool, visit func(Record)) error {
	ne := binary.NativeEndian
	for len(b) >= 8 {
		r := Record{Kind: ne.Uint32(b), Misc: ne.Uint16(b[4:])}
		size := int(ne.Uint16(b[6:]))
		if size < 8 || size > len(b) {
			return fmt.Errorf("a record of %d bytes in the %d that are left", size, len(b))
		}
		body := b[8:size]
		b = b[size:]
		if r.Kind == RecordSample && len(body) >= 24 && isOther(ne.Uint64(body)) {
			// identifier, pid+tid, time, then what the program wrote
			r.Kind = RecordOther
			r.PID, r.TID = ne.Uint32(body[8:]), ne.Uint32(body[12:])
			r.Time = ne.Uint64(body[16:])
			r.Body = body
		} else if r.Kind == RecordSample {
			// identifier, ip, pid+tid, time, cpu, period, callchain
			if len(body) < 48 {
				return fmt.Errorf("a sample of %d bytes", size)
			}
			r.ID = ne.Uint64(body)
			r.PID, r.TID = ne.Uint32(body[16:]), ne.Uint32(body[20:])
			r.Time = ne.Uint64(body[24:])
			r.Body = body
		} else {
			if len(body) < trailer {
				continue
			}
			t := body[len(body)-trailer:]
			r.PID, r.TID = ne.Uint32(t), ne.Uint32(t[4:])
			r.Time = ne.Uint64(t[8:])
			r.ID = ne.Uint64(t[24:])
			r.Body = body[:len(body)-trailer]
		}
		visit(r)
	}
	return nil
}

// Word is a number of 64 bits as the kernel writes it.
func Word(b []byte) uint64 { return binary.NativeEndian.Uint64(b) }

// Sample is a decoded sample record.
type Sample struct {
	Period    uint64
	Running   uint64                // for how long the event ran, in nanoseconds, where it tells
	Chain     []uint64              // aliases nothing; reused between calls
	Registers [registerCount]uint64 // as sampledRegisters has them; known says whether they are there
	Known     bool                  // the registers of code for 64 bits
	Stack     []byte                // aliases the record
	Full      bool                  // the stack may be longer than the copy
	Raw       []byte                // of a tracepoint; aliases the record
}

// Decode reads a record. copied tells whether registers and stack are in it,
// raw whether a tracepoint's own record is, timed whether the time is for which
// the event ran.
func (s *Sample) Decode(r Record, copied, raw, timed bool) bool {
	ne := binary.NativeEndian
	b := r.Body
	if len(b) < 56 {
		return false
	}
	s.Period = ne.Uint64(b[40:])
	if b = b[48:]; timed { // PERF_SAMPLE_READ: the count and the time
		if len(b) < 24 {
			return false
		}
		s.Running, b = ne.Uint64(b[8:]), b[16:]
	}
	n := ne.Uint64(b)
	b = b[8:]
	if n > uint64(len(b)/8) {
		return false
	}
	s.Chain = s.Chain[:0]
	for i := range n {
		s.Chain = append(s.Chain, ne.Uint64(b[8*i:]))
	}
	s.Known, s.Stack, s.Full, s.Raw = false, nil, false, nil
	b = b[8*n:]
	if raw {
		var ok bool
		if s.Raw, b, ok = cutRaw(b); !ok {
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

// RawOf returns the tracepoint's own record of a sample that has no call chain.
func RawOf(r Record) []byte {
	if len(r.Body) < 48 {
		return nil
	}
	raw, _, _ := cutRaw(r.Body[48:])
	return raw
}

// decodeStack reads what follows the call chain: the ABI of the registers (0
// where there are none, as in a kernel thread) and the registers; the room for
// the stack, the stack, and how much of the room is used.
func (s *Sample) decodeStack(b []byte) bool {
	ne := binary.NativeEndian
	const abi64 = 2 // PERF_SAMPLE_REGS_ABI_64
	if len(b) < 8 {
		return false
	}
	abi := ne.Uint64(b)
	b = b[8:]
	if abi != 0 {
		if len(b) < 8*registerCount {
			return false
		}
		s.Known = abi == abi64 // code for 32 bits has others
		for i := range s.Registers {
			s.Registers[i] = ne.Uint64(b[8*i:])
		}
		b = b[8*registerCount:]
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
	s.Stack, s.Full = b[:used], used == room
	return true
}

// mmap2 is a decoded record of an executable mapping.
type mmap2 struct {
	PID, tid                    uint32
	Address, Length, FileOffset uint64
	Major, Minor                uint32
	Inode                       uint64
	Name                        string
}

// DecodeMmap2 reads such a record; ok is false where it is too short.
func DecodeMmap2(b []byte) (m mmap2, ok bool) {
	ne := binary.NativeEndian
	if len(b) < 64 {
		return m, false
	}
	m.PID, m.tid = ne.Uint32(b), ne.Uint32(b[4:])
	m.Address, m.Length, m.FileOffset = ne.Uint64(b[8:]), ne.Uint64(b[16:]), ne.Uint64(b[24:])
	m.Major, m.Minor, m.Inode = ne.Uint32(b[32:]), ne.Uint32(b[36:]), ne.Uint64(b[40:])
	m.Name = unix.ByteSliceToString(b[64:])
	return m, true
}
