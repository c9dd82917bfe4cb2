package bpf

import (
	"errors"
	"fmt"
	"math"
	"sync/atomic"
	"unsafe"

	"github.com/cilium/ebpf"
	"github.com/cilium/ebpf/asm"
)

// Counter is the kernel program that counts calls, with its maps. It runs at
// the probe, reads from where the function was called, and adds one there; no
// record is written, so none can be lost.
type Counter struct {
	control  *ebpf.Map // one value of controlBytes
	counts   *ebpf.Map // by callKey
	programs []*ebpf.Program
}

// CallKey is where a function was called from.
type CallKey struct {
	Function uint32 // position among the probes
	PID      uint32
	Return   uint64
}

// What the program and the collector tell each other.
type countControl struct {
	Limit int64 // how many calls are counted; 0: none, now
	Calls int64 // that there were while it counted, those beyond the limit included
	Full  int64 // that had no room in the map
}

// mostCallers is how many different places of call are told apart.
const mostCallers = 1 << 17

// NewCounter makes the maps in which calls are counted.
func NewCounter() (c *Counter, err error) {
	c = &Counter{}
	if c.control, err = ebpf.NewMap(&ebpf.MapSpec{Name: "count_control", Type: ebpf.Array, KeySize: 4, ValueSize: uint32(unsafe.Sizeof(countControl{})), MaxEntries: 1}); err != nil {
		return nil, err
	}
	c.counts, err = ebpf.NewMap(&ebpf.MapSpec{Name: "calls", Type: ebpf.Hash, KeySize: uint32(unsafe.Sizeof(CallKey{})), ValueSize: 8, MaxEntries: mostCallers})
	if err != nil {
		return nil, errors.Join(err, c.control.Close())
	}
	return c, nil
}

// Program returns the program of the probe with a number.
func (c *Counter) Program(number int) (*ebpf.Program, error) {
	p, err := ebpf.NewProgram(&ebpf.ProgramSpec{
		Name: "count_calls", Type: ebpf.Kprobe, License: "GPL",
		Instructions: countProgram(int32(number), c.control.FD(), c.counts.FD()),
	})
	if err != nil {
		return nil, fmt.Errorf("loading the program that counts: %w", err)
	}
	c.programs = append(c.programs, p)
	return p, nil
}

// countProgram has the context in r6 and the control in r7.
func countProgram(number int32, control, counts int) asm.Instructions {
	const (
		slotKey      = -8
		slotReturn   = -16 // the end of the callKey
		slotFunction = -24 // its begin: function, then process
		slotPID      = -20
		slotOne      = -32
		stackPointer = 152 // struct pt_regs, sp
		onlyNew      = 1   // BPF_NOEXIST
	)
	p := &assembler{}
	found, full, out := p.label(), p.label(), p.label()
	look := func() {
		p.add(
			asm.LoadMapPtr(asm.R1, counts),
			asm.Mov.Reg(asm.R2, asm.RFP),
			asm.Add.Imm(asm.R2, slotFunction),
			asm.FnMapLookupElem.Call(),
			asm.JNE.Imm(asm.R0, 0, found),
		)
	}
	next := asm.FetchAdd.Mem(asm.R7, asm.R2, asm.DWord, 8)
	next.Constant = 1 // BPF_FETCH, which the assembler's own encoding leaves out
	p.add(asm.Mov.Reg(asm.R6, asm.R1))
	p.store(asm.RFP, slotKey, 0)
	p.add(
		asm.LoadMapPtr(asm.R1, control),
		asm.Mov.Reg(asm.R2, asm.RFP),
		asm.Add.Imm(asm.R2, slotKey),
		asm.FnMapLookupElem.Call(),
		asm.JEq.Imm(asm.R0, 0, out),
		asm.Mov.Reg(asm.R7, asm.R0),
		asm.LoadMem(asm.R1, asm.R7, 0, asm.DWord),
		asm.JEq.Imm(asm.R1, 0, out),
		asm.Mov.Imm(asm.R2, 1),
		next,
		asm.JGE.Reg(asm.R2, asm.R1, out),
	)
	p.store(asm.RFP, slotReturn, 0) // where it cannot be read, the caller is not known
	p.add(
		asm.Mov.Reg(asm.R1, asm.RFP),
		asm.Add.Imm(asm.R1, slotReturn),
		asm.Mov.Imm(asm.R2, 8),
		asm.LoadMem(asm.R3, asm.R6, stackPointer, asm.DWord),
		asm.FnProbeReadUser.Call(),
		asm.FnGetCurrentPidTgid.Call(),
		asm.RSh.Imm(asm.R0, 32),
		asm.StoreMem(asm.RFP, slotPID, asm.R0, asm.Word),
		asm.Mov.Imm(asm.R0, number),
		asm.StoreMem(asm.RFP, slotFunction, asm.R0, asm.Word),
	)
	look()
	p.store(asm.RFP, slotOne, 1)
	p.add(
		asm.LoadMapPtr(asm.R1, counts),
		asm.Mov.Reg(asm.R2, asm.RFP),
		asm.Add.Imm(asm.R2, slotFunction),
		asm.Mov.Reg(asm.R3, asm.RFP),
		asm.Add.Imm(asm.R3, slotOne),
		asm.Mov.Imm(asm.R4, onlyNew),
		asm.FnMapUpdateElem.Call(),
		asm.JEq.Imm(asm.R0, 0, out),
	)
	look() // another processor was first, or there is no room
	p.add(asm.Ja.Label(full))
	p.here(found)
	p.add(
		asm.Mov.Imm(asm.R1, 1),
		asm.AddAtomic.Mem(asm.R0, asm.R1, asm.DWord, 0),
		asm.Ja.Label(out),
	)
	p.here(full)
	p.add(
		asm.Mov.Imm(asm.R1, 1),
		asm.AddAtomic.Mem(asm.R7, asm.R1, asm.DWord, 16),
	)
	p.here(out)
	p.add(asm.Mov.Imm(asm.R0, 0), asm.Return()) // no sample
	return p.code
}

// State reads how far it is.
func (c *Counter) State() (s countControl, err error) {
	err = c.control.Lookup(uint32(0), &s)
	return s, err
}

// Begin lets calls be counted, up to a limit; 0 is none.
func (c *Counter) Begin(limit int64) error {
	if limit <= 0 {
		limit = math.MaxInt64
	}
	return c.control.Put(uint32(0), countControl{Limit: limit})
}

// End stops the counting and returns the state at that moment.
func (c *Counter) End() (s countControl, err error) {
	if s, err = c.State(); err != nil {
		return s, err
	}
	stopped := s
	stopped.Limit = 0
	return s, c.control.Put(uint32(0), stopped)
}

// Read returns all counts.
func (c *Counter) Read() (map[CallKey]int64, error) {
	out := map[CallKey]int64{}
	var k CallKey
	var v uint64
	it := c.counts.Iterate()
	for it.Next(&k, &v) {
		out[k] = int64(v)
	}
	return out, it.Err()
}

// Close removes its programs and maps.
func (c *Counter) Close() error {
	var errs []error
	for _, p := range c.programs {
		errs = append(errs, p.Close())
	}
	errs = append(errs, c.control.Close(), c.counts.Close())
	return errors.Join(errs...)
}

// ProbedLeaf and probedFrame are called to find out what one count costs. The
// second has a frame, so that its probe is at the instruction that saves a
// register; the first has none.
//
//go:noinline
func ProbedLeaf(n int64) int64 { return atomic.AddInt64(&probedCalls, n) }

//go:noinline
func ProbedFrame(n int64) int64 { return ProbedLeaf(n) + probedCalls }

var probedCalls int64
