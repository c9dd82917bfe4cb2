package sampler

import (
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"unsafe"

	"github.com/cilium/ebpf"
	"github.com/cilium/ebpf/asm"
	"github.com/cilium/ebpf/btf"
	"golang.org/x/sys/unix"

	"entelon/symbol"
	"entelon/unwind"
)

// The kernel copies the stack from the stack pointer on. A thread may have
// left another stack behind: a signal handler runs on a stack of its own, and
// the Go runtime changes between goroutines' stacks and the system's. What is
// on those can only be read at the very moment of the sample, by a program
// that the kernel runs then. It looks where the other stack was left, copies
// from there on, and writes that as a record into the same ring, right before
// the sample. Where it may not be loaded, such stacks are cut off.

// otherBytes is how much of a stack is copied into one record, and
// moreRecords how many follow what the kernel copied of a stack that is
// deeper than that.
const (
	otherBytes  = 16 << 10
	moreRecords = 3
)

// The record that the program writes: these words, then the copied bytes.
const (
	otherAddr   = 8 * iota // where the copied bytes are
	otherLength            // how many there are
	otherKind              // what the rest means
	otherLow               // of a Go program, as in unwind.GoStacks
	otherHigh
	otherSP
	otherPC
	otherBP
	otherSystemSP
	otherHeader
)

const (
	kindStack   = 1
	kindGoStack = 2
)

// kernelOffsets are the places in the kernel's structures that the program reads.
type kernelOffsets struct {
	SignalStack     int32 // task_struct.sas_ss_sp
	SignalStackSize int32 // task_struct.sas_ss_size
	ThreadPointer   int32 // task_struct.thread.fsbase
	StackPointer    int32 // pt_regs.sp
	Memory          int32 // task_struct.mm
	StackStart      int32 // mm_struct.start_stack
	SignalFrame     int32 // bytes that a signal frame takes at most
}

// readKernelOffsets finds the places in the kernel's own description of its types.
func readKernelOffsets() (o kernelOffsets, err error) {
	spec, err := btf.LoadKernelSpec()
	if err != nil {
		return o, fmt.Errorf("reading the kernel's types: %w", err)
	}
	var task, regs, memory *btf.Struct
	if err := errors.Join(spec.TypeByName("task_struct", &task), spec.TypeByName("pt_regs", &regs), spec.TypeByName("mm_struct", &memory)); err != nil {
		return o, fmt.Errorf("reading the kernel's types: %w", err)
	}
	for _, f := range []struct {
		to   *int32
		in   *btf.Struct
		path []string
	}{
		{&o.SignalStack, task, []string{"sas_ss_sp"}},
		{&o.SignalStackSize, task, []string{"sas_ss_size"}},
		{&o.ThreadPointer, task, []string{"thread", "fsbase"}},
		{&o.StackPointer, regs, []string{"sp"}},
		{&o.Memory, task, []string{"mm"}},
		{&o.StackStart, memory, []string{"start_stack"}},
	} {
		if *f.to, err = offsetOf(f.in, f.path); err != nil {
			return o, err
		}
	}
	o.SignalFrame, err = signalFrameBytes()
	return o, err
}

// signalFrameBytes asks the kernel how much a signal frame takes at most
// (AT_MINSIGSTKSZ of the auxiliary vector, since Linux 5.14).
func signalFrameBytes() (int32, error) {
	const minSignalStack = 51
	b, err := os.ReadFile("/proc/self/auxv")
	if err != nil {
		return 0, fmt.Errorf("asking for the size of signal frames: %w", err)
	}
	for ; len(b) >= 16; b = b[16:] {
		if v := nativeUint64(b[8:]); nativeUint64(b) == minSignalStack && v < 1<<20 {
			return int32(v), nil
		}
	}
	return 0, errors.New("the kernel does not tell the size of signal frames")
}

func offsetOf(in *btf.Struct, path []string) (int32, error) {
	for _, m := range in.Members {
		if inner, ok := btf.UnderlyingType(m.Type).(*btf.Struct); ok && m.Name == "" {
			if at, err := offsetOf(inner, path); err == nil { // a part without a name
				return at + int32(m.Offset.Bytes()), nil
			}
		}
		if m.Name != path[0] {
			continue
		}
		if len(path) == 1 {
			return int32(m.Offset.Bytes()), nil
		}
		if inner, ok := btf.UnderlyingType(m.Type).(*btf.Struct); ok {
			at, err := offsetOf(inner, path[1:])
			return at + int32(m.Offset.Bytes()), err
		}
	}
	return 0, fmt.Errorf("reading the kernel's types: %s has no %s", in.Name, path[0])
}

// stackReader is the program with its maps and the events that it writes through.
type stackReader struct {
	program *ebpf.Program
	runtime *ebpf.Map // goPlaces by process
	scratch *ebpf.Map
	outputs *ebpf.Map // an event for each processor
	events  []int
	ids     map[uint64]bool // identifiers of the events
}

// goPlaces is what the program needs to know of a Go process; all are offsets.
type goPlaces struct {
	TLS     int64
	M       uint64
	Current uint64
	Sched   uint64
	Cgo     uint64
}

// newStackReader loads the program and opens its outputs. An error says why
// this machine or this user cannot. stackBytes is what the kernel copies itself.
func newStackReader(cpus []int, o kernelOffsets, stackBytes int) (r *stackReader, err error) {
	r = &stackReader{ids: map[uint64]bool{}}
	defer func() {
		if err != nil {
			err = errors.Join(err, r.close())
		}
	}()
	last := 0
	for _, c := range cpus {
		last = max(last, c)
	}
	if r.runtime, err = ebpf.NewMap(&ebpf.MapSpec{Name: "go_places", Type: ebpf.LRUHash, KeySize: 4, ValueSize: 40, MaxEntries: 4096}); err != nil {
		return r, err
	}
	if r.scratch, err = ebpf.NewMap(&ebpf.MapSpec{Name: "scratch", Type: ebpf.PerCPUArray, KeySize: 4, ValueSize: scratchBytes, MaxEntries: 1}); err != nil {
		return r, err
	}
	if r.outputs, err = ebpf.NewMap(&ebpf.MapSpec{Name: "outputs", Type: ebpf.PerfEventArray, KeySize: 4, ValueSize: 4, MaxEntries: uint32(last + 1)}); err != nil {
		return r, err
	}
	for _, cpu := range cpus {
		if err := r.output(cpu); err != nil {
			return r, err
		}
	}
	r.program, err = ebpf.NewProgram(&ebpf.ProgramSpec{
		Name: "other_stacks", Type: ebpf.PerfEvent, License: "GPL",
		Instructions: stackProgram(o, stackBytes, r.runtime.FD(), r.scratch.FD(), r.outputs.FD()),
	})
	return r, err
}

// output opens the event of one processor through which the program writes.
func (r *stackReader) output(cpu int) error {
	a := &unix.PerfEventAttr{
		Type: unix.PERF_TYPE_SOFTWARE, Config: unix.PERF_COUNT_SW_BPF_OUTPUT,
		Sample:      1,
		Sample_type: unix.PERF_SAMPLE_IDENTIFIER | unix.PERF_SAMPLE_TID | unix.PERF_SAMPLE_TIME | unix.PERF_SAMPLE_RAW,
		Bits:        unix.PerfBitUseClockID | unix.PerfBitWatermark,
		Wakeup:      wakeBytes,
		Clockid:     unix.CLOCK_MONOTONIC,
	}
	a.Size = uint32(unsafe.Sizeof(*a))
	fd, err := unix.PerfEventOpen(a, -1, cpu, -1, unix.PERF_FLAG_FD_CLOEXEC)
	if err != nil {
		return fmt.Errorf("opening an output for processor %d: %w", cpu, err)
	}
	r.events = append(r.events, fd)
	id, err := eventID(fd)
	if err != nil {
		return err
	}
	r.ids[id] = true
	return r.outputs.Put(uint32(cpu), uint32(fd))
}

// attach has the kernel run the program with every sample of an event.
func (r *stackReader) attach(fd int) error {
	if err := unix.IoctlSetInt(fd, unix.PERF_EVENT_IOC_SET_BPF, r.program.FD()); err != nil {
		return fmt.Errorf("attaching to the sampling event: %w", err)
	}
	return nil
}

// tell lets the program know that a process is of the Go runtime.
func (r *stackReader) tell(pid uint32, g symbol.GoRuntime) error {
	p := goPlaces{TLS: int64(g.TLS), M: uint64(g.M), Current: uint64(g.Current), Sched: uint64(g.Sched)}
	if g.Cgo {
		p.Cgo = 1
	}
	return r.runtime.Put(pid, p)
}

func (r *stackReader) close() error {
	var errs []error
	for _, fd := range r.events {
		errs = append(errs, unix.Close(fd))
	}
	r.events = nil
	if r.program != nil {
		errs = append(errs, r.program.Close())
	}
	for _, m := range []*ebpf.Map{r.runtime, r.scratch, r.outputs} {
		if m != nil {
			errs = append(errs, m.Close())
		}
	}
	return errors.Join(errs...)
}

// otherDelay is the longest time in nanoseconds between a sample and the copy
// of another stack that belongs to it; both are made by one interrupt.
const otherDelay = 1_000_000

// pairing hands the records of the program on with the sample that they
// belong to: the next one of the same thread in the same ring. Which of the
// two has the earlier time depends on the kernel's version.
type pairing map[uint32][]record

func (p pairing) visit(r record, next func(record)) {
	switch r.kind {
	case recOther:
		p[r.tid] = append(p[r.tid], r)
		return
	case recSample:
		if waiting, ok := p[r.tid]; ok {
			delete(p, r.tid)
			for _, o := range waiting {
				if max(o.time, r.time)-min(o.time, r.time) < otherDelay { // else its own sample was lost
					r.others = append(r.others, o.body)
				}
			}
		}
	}
	next(r)
}

// decodeOther reads a record of the program: identifier, pid and tid, time,
// the length of the rest, then the words above. A broken one is passed over:
// the stack is then cut off, as it would be without it.
func decodeOther(b []byte, windows unwind.Memory, goes *unwind.GoStacks) unwind.Memory {
	ne := binary.NativeEndian
	const before = 8 + 8 + 8 + 4
	if len(b) < before+otherHeader {
		return windows
	}
	b = b[before:]
	word := func(at int) uint64 { return ne.Uint64(b[at:]) }
	n := word(otherLength)
	if n > uint64(len(b)-otherHeader) {
		return windows
	}
	if word(otherKind) == kindGoStack {
		*goes = unwind.GoStacks{
			Known: true, Low: word(otherLow), High: word(otherHigh),
			SP: word(otherSP), PC: word(otherPC), BP: word(otherBP), SystemSP: word(otherSystemSP),
		}
	}
	if n == 0 {
		return windows
	}
	return append(windows, unwind.Window{Start: word(otherAddr), Bytes: b[otherHeader : otherHeader+n]})
}

// scratchBytes has room for a header, the copy, and one page more, so that
// the kernel's check of the program sees that no copy can go beyond.
const scratchBytes = 32 << 10

// Places on the program's own stack, relative to its end.
const (
	slotKey    = -8
	slotWord   = -16
	slotG      = -24
	slotM      = -32
	slotCur    = -40
	slotSystem = -48
	slotLimit  = -56
	slotAddr   = -64
)

// stackProgram is the program. It keeps the sample's context in r6, the
// scratch memory in r7, the program's stack pointer in r8, and the task in r9.
func stackProgram(o kernelOffsets, stackBytes, runtime, scratch, outputs int) asm.Instructions {
	p := &assembler{scratch: scratch, outputs: outputs, stackBytes: int32(stackBytes)}
	p.add(
		asm.Mov.Reg(asm.R6, asm.R1),
		asm.FnGetCurrentTaskBtf.Call(),
		asm.Mov.Reg(asm.R9, asm.R0),
		asm.Mov.Reg(asm.R1, asm.R9),
		asm.FnTaskPtRegs.Call(),
		asm.LoadMem(asm.R8, asm.R0, int16(o.StackPointer), asm.DWord),
		asm.Mov.Imm(asm.R0, 0),
		asm.StoreMem(asm.RFP, slotKey, asm.R0, asm.DWord),
		asm.LoadMapPtr(asm.R1, scratch),
		asm.Mov.Reg(asm.R2, asm.RFP),
		asm.Add.Imm(asm.R2, slotKey),
		asm.FnMapLookupElem.Call(),
		asm.JEq.Imm(asm.R0, 0, "out"),
		asm.Mov.Reg(asm.R7, asm.R0),
	)
	p.signalStack(o, o.SignalFrame)
	p.deepStack(o)
	p.goStack(o, runtime)
	p.here("out")
	p.add(
		asm.Mov.Imm(asm.R0, 1), // the sample itself is kept in any case
		asm.Return(),
	)
	return p.code
}

type assembler struct {
	code             asm.Instructions
	scratch, outputs int
	next             string // label of the next instruction
	labels           int
	stackBytes       int32
}

func (p *assembler) add(code ...asm.Instruction) {
	for _, in := range code {
		if p.next != "" {
			in = in.WithSymbol(p.next)
			p.next = ""
		}
		p.code = append(p.code, in)
	}
}

// label makes a new label's name.
func (p *assembler) label() string {
	p.labels++
	return fmt.Sprintf("l%d", p.labels)
}

// here puts a label before the next instruction.
func (p *assembler) here(label string) {
	if p.next != "" {
		p.add(asm.Mov.Reg(asm.R0, asm.R0))
	}
	p.next = label
}

// readUser reads size bytes of the program's memory at the address in r3 to a
// place on the own stack; it goes to the label where that fails.
func (p *assembler) readUser(slot int16, size int32, failed string) {
	p.add(
		asm.Mov.Reg(asm.R1, asm.RFP),
		asm.Add.Imm(asm.R1, int32(slot)),
		asm.Mov.Imm(asm.R2, size),
		asm.FnProbeReadUser.Call(),
		asm.JNE.Imm(asm.R0, 0, failed),
	)
}

// signalStack looks whether the thread runs on its signal stack. If so, the
// outermost signal frame at the stack's end holds the interrupted registers;
// what they point to is copied, and counts as the stack from then on. How far
// from the end the frame is depends on the processor's registers and on how
// the end is aligned, so it is looked for around frameBytes, the most that it
// takes: it holds the signal stack's own bounds (struct ucontext, uc_stack).
func (p *assembler) signalStack(o kernelOffsets, frameBytes int32) {
	const (
		before, looked = 64, 1024 // from where on, and how far
		stackSP        = -16 + 40 + 15*8
	)
	none, found := p.label(), p.label()
	p.add(
		asm.LoadMem(asm.R1, asm.R9, int16(o.SignalStack), asm.DWord),
		asm.LoadMem(asm.R2, asm.R9, int16(o.SignalStackSize), asm.DWord),
		asm.JEq.Imm(asm.R2, 0, none),
		asm.Mov.Reg(asm.R3, asm.R8),
		asm.Sub.Reg(asm.R3, asm.R1),
		asm.JGE.Reg(asm.R3, asm.R2, none), // unsigned: the stack pointer is not on it
		asm.StoreMem(asm.RFP, slotG, asm.R1, asm.DWord),
		asm.StoreMem(asm.RFP, slotM, asm.R2, asm.DWord),
		asm.Mov.Reg(asm.R3, asm.R1),
		asm.Add.Reg(asm.R3, asm.R2),
		asm.And.Imm(asm.R3, -16), // to which the frame is aligned
		asm.Sub.Imm(asm.R3, (frameBytes+15)&^15+before),
		asm.Mov.Reg(asm.R1, asm.R7),
		asm.Add.Imm(asm.R1, otherHeader),
		asm.Mov.Imm(asm.R2, looked),
		asm.FnProbeReadUser.Call(),
		asm.JNE.Imm(asm.R0, 0, none),
		asm.LoadMem(asm.R1, asm.RFP, slotG, asm.DWord),
		asm.LoadMem(asm.R2, asm.RFP, slotM, asm.DWord),
	)
	for at := int16(otherHeader); at+stackSP+8 <= otherHeader+looked; at += 16 {
		next := p.label()
		p.add(
			asm.LoadMem(asm.R5, asm.R7, at, asm.DWord),
			asm.JNE.Reg(asm.R5, asm.R1, next),
			asm.LoadMem(asm.R5, asm.R7, at+16, asm.DWord),
			asm.JNE.Reg(asm.R5, asm.R2, next),
			asm.LoadMem(asm.R8, asm.R7, at+stackSP, asm.DWord),
			asm.Ja.Label(found),
		)
		p.here(next)
	}
	p.add(asm.Ja.Label(none))
	p.here(found)
	p.add(
		asm.Mov.Imm(asm.R0, kindStack),
		asm.StoreMem(asm.R7, otherKind, asm.R0, asm.DWord),
		asm.StoreMem(asm.RFP, slotAddr, asm.R8, asm.DWord),
	)
	some, all := p.label(), p.label()
	p.left(o, all)
	p.add(asm.JLT.Imm(asm.R2, otherBytes, some))
	p.here(all)
	p.add(asm.Mov.Imm(asm.R2, otherBytes))
	p.here(some)
	p.add(asm.StoreMem(asm.RFP, slotLimit, asm.R2, asm.DWord))
	p.emit()
	p.here(none)
}

// left sets r2 to how much of the stack is left from r8 to where it begins;
// it goes to the label where that is not known. It is known for a process's
// first thread, from the kernel, and for the others, whose thread pointer is
// at the stack's begin.
func (p *assembler) left(o kernelOffsets, unknown string) {
	const largest = 64 << 20 // what is further away is another stack
	found := p.label()
	p.add(
		asm.LoadMem(asm.R1, asm.R9, int16(o.Memory), asm.DWord),
		asm.JEq.Imm(asm.R1, 0, unknown),
		asm.LoadMem(asm.R2, asm.R1, int16(o.StackStart), asm.DWord),
		asm.Sub.Reg(asm.R2, asm.R8),
		asm.JLE.Imm(asm.R2, largest, found), // unsigned, so that a begin below is far away
		asm.LoadMem(asm.R2, asm.R9, int16(o.ThreadPointer), asm.DWord),
		asm.Sub.Reg(asm.R2, asm.R8),
		asm.JGT.Imm(asm.R2, largest, unknown),
	)
	p.here(found)
}

// deepStack copies what is beyond the kernel's copy where the stack is deeper.
func (p *assembler) deepStack(o kernelOffsets) {
	none := p.label()
	p.left(o, none)
	p.add(
		asm.Mov.Imm(asm.R0, kindStack),
		asm.StoreMem(asm.R7, otherKind, asm.R0, asm.DWord),
	)
	p.more(none)
	p.here(none)
}

// more copies a stack that r2 bytes are left of, from where the kernel's copy
// ends; it goes to the label where there is nothing.
func (p *assembler) more(none string) {
	p.add(
		asm.Sub.Imm(asm.R2, p.stackBytes),
		asm.JSLE.Imm(asm.R2, 0, none),
		asm.Mov.Reg(asm.R1, asm.R8),
		asm.Add.Imm(asm.R1, p.stackBytes),
		asm.StoreMem(asm.RFP, slotAddr, asm.R1, asm.DWord),
		asm.StoreMem(asm.RFP, slotG, asm.R2, asm.DWord),
	)
	for range moreRecords {
		fits := p.label()
		p.add(
			asm.LoadMem(asm.R2, asm.RFP, slotG, asm.DWord),
			asm.JSLE.Imm(asm.R2, 0, none),
			asm.Mov.Reg(asm.R1, asm.R2),
			asm.Sub.Imm(asm.R1, otherBytes),
			asm.StoreMem(asm.RFP, slotG, asm.R1, asm.DWord),
			asm.JSLE.Imm(asm.R2, otherBytes, fits),
			asm.Mov.Imm(asm.R2, otherBytes),
		)
		p.here(fits)
		p.add(asm.StoreMem(asm.RFP, slotLimit, asm.R2, asm.DWord))
		p.emit()
	}
}

// goStack looks whether the process is of the Go runtime, and where the
// thread left the goroutine's stack, or in a callback from C code the
// system's.
func (p *assembler) goStack(o kernelOffsets, runtime int) {
	const curBytes = 128 // of the goroutine: the stack's bounds first, then sched
	const place = otherHeader + 64
	p.add(
		asm.FnGetCurrentPidTgid.Call(),
		asm.RSh.Imm(asm.R0, 32),
		asm.StoreMem(asm.RFP, slotKey, asm.R0, asm.Word),
		asm.LoadMapPtr(asm.R1, runtime),
		asm.Mov.Reg(asm.R2, asm.RFP),
		asm.Add.Imm(asm.R2, slotKey),
		asm.FnMapLookupElem.Call(),
		asm.JEq.Imm(asm.R0, 0, "out"),
		asm.LoadMem(asm.R3, asm.R9, int16(o.ThreadPointer), asm.DWord),
		asm.Mov.Reg(asm.R9, asm.R0), // the task is not needed any more
		asm.LoadMem(asm.R1, asm.R9, 0, asm.DWord),
		asm.Add.Reg(asm.R3, asm.R1),
	)
	p.readUser(slotG, 8, "out")
	p.add(
		asm.LoadMem(asm.R3, asm.RFP, slotG, asm.DWord),
		asm.JEq.Imm(asm.R3, 0, "out"), // a thread that the runtime does not know
		asm.LoadMem(asm.R1, asm.R9, 8, asm.DWord),
		asm.Add.Reg(asm.R3, asm.R1),
	)
	p.readUser(slotM, 8, "out")
	p.add(asm.LoadMem(asm.R3, asm.RFP, slotM, asm.DWord))
	p.readUser(slotSystem, 8, "out") // m.g0 is the first field
	p.add(
		asm.LoadMem(asm.R3, asm.RFP, slotM, asm.DWord),
		asm.LoadMem(asm.R1, asm.R9, 16, asm.DWord),
		asm.Add.Reg(asm.R3, asm.R1),
	)
	p.readUser(slotCur, 8, "out")
	p.add(
		asm.LoadMem(asm.R3, asm.RFP, slotCur, asm.DWord),
		asm.JEq.Imm(asm.R3, 0, "idle"),
		asm.Mov.Reg(asm.R1, asm.R7),
		asm.Add.Imm(asm.R1, place),
		asm.Mov.Imm(asm.R2, curBytes),
		asm.FnProbeReadUser.Call(),
		asm.JNE.Imm(asm.R0, 0, "out"),
		asm.LoadMem(asm.R3, asm.RFP, slotSystem, asm.DWord),
		asm.LoadMem(asm.R1, asm.R9, 24, asm.DWord),
		asm.Add.Reg(asm.R3, asm.R1),
	)
	p.readUser(slotWord, 8, "out") // g0.sched.sp
	// The header. sched is the scheduler's record: sp, pc, and bp at 40.
	p.add(
		asm.LoadMem(asm.R1, asm.R7, place, asm.DWord),
		asm.LoadMem(asm.R2, asm.R7, place+8, asm.DWord),
		asm.StoreMem(asm.R7, otherLow, asm.R1, asm.DWord),
		asm.StoreMem(asm.R7, otherHigh, asm.R2, asm.DWord),
		asm.LoadMem(asm.R4, asm.RFP, slotWord, asm.DWord),
		asm.StoreMem(asm.R7, otherSystemSP, asm.R4, asm.DWord),
		asm.LoadMem(asm.R3, asm.R9, 24, asm.DWord),
		asm.JGT.Imm(asm.R3, curBytes-48, "out"),
		asm.Mov.Reg(asm.R5, asm.R7),
		asm.Add.Reg(asm.R5, asm.R3),
		asm.LoadMem(asm.R3, asm.R5, place, asm.DWord),
		asm.StoreMem(asm.R7, otherSP, asm.R3, asm.DWord),
		asm.LoadMem(asm.R0, asm.R5, place+8, asm.DWord),
		asm.StoreMem(asm.R7, otherPC, asm.R0, asm.DWord),
		asm.LoadMem(asm.R0, asm.R5, place+40, asm.DWord),
		asm.StoreMem(asm.R7, otherBP, asm.R0, asm.DWord),
		asm.Mov.Imm(asm.R0, kindGoStack),
		asm.StoreMem(asm.R7, otherKind, asm.R0, asm.DWord),
		asm.Mov.Imm(asm.R5, otherBytes),
		asm.StoreMem(asm.RFP, slotLimit, asm.R5, asm.DWord),
	)
	system, emit, shallow := p.label(), p.label(), p.label()
	p.add(
		asm.JLT.Reg(asm.R8, asm.R1, system),
		asm.JGE.Reg(asm.R8, asm.R2, system),
		asm.Sub.Reg(asm.R2, asm.R8),
	)
	p.more(shallow)
	p.here(shallow)
	p.add(
		// On the goroutine's stack: only C code can be below, on the system's.
		asm.Mov.Imm(asm.R5, otherBytes),
		asm.StoreMem(asm.RFP, slotLimit, asm.R5, asm.DWord),
		asm.LoadMem(asm.R4, asm.R7, otherSystemSP, asm.DWord),
		asm.LoadMem(asm.R5, asm.R9, 32, asm.DWord),
		asm.JEq.Imm(asm.R5, 0, "out"),
		asm.StoreMem(asm.RFP, slotAddr, asm.R4, asm.DWord),
		asm.Mov.Reg(asm.R8, asm.R4),
		asm.FnGetCurrentTaskBtf.Call(),
		asm.Mov.Reg(asm.R9, asm.R0),
	)
	p.left(o, emit)
	p.add(
		asm.JGE.Imm(asm.R2, otherBytes, emit),
		asm.StoreMem(asm.RFP, slotLimit, asm.R2, asm.DWord),
		asm.Ja.Label(emit),
	)
	p.here(system)
	// No more than up to the end of the goroutine's stack.
	p.add(
		asm.StoreMem(asm.RFP, slotAddr, asm.R3, asm.DWord),
		asm.Sub.Reg(asm.R2, asm.R3),
		asm.JGE.Imm(asm.R2, otherBytes, emit),
		asm.StoreMem(asm.RFP, slotLimit, asm.R2, asm.DWord),
	)
	p.here(emit)
	p.emit()
	p.add(asm.Ja.Label("out"))
	// The thread runs for no goroutine, so that nothing is below the system's stack.
	p.here("idle")
	p.add(asm.Mov.Imm(asm.R1, 0))
	for _, at := range []int16{otherAddr, otherLow, otherHigh, otherSP, otherPC, otherBP, otherSystemSP} {
		p.add(asm.StoreMem(asm.R7, at, asm.R1, asm.DWord))
	}
	p.add(
		asm.StoreMem(asm.RFP, slotLimit, asm.R1, asm.DWord),
		asm.StoreMem(asm.RFP, slotAddr, asm.R1, asm.DWord),
		asm.Mov.Imm(asm.R1, kindGoStack),
		asm.StoreMem(asm.R7, otherKind, asm.R1, asm.DWord),
	)
	p.emit()
}

// emit copies the program's memory from the address in slotAddr on, as much as
// slotLimit says or, where not all of that can be read, up to the end of the
// page, and writes the record.
func (p *assembler) emit() {
	const page = 4096
	out, copied, over := p.label(), p.label(), p.label()
	load := func() {
		p.add(
			asm.JGT.Imm(asm.R2, otherBytes, over), // what the kernel's check needs to see
			asm.StoreMem(asm.RFP, slotWord, asm.R2, asm.DWord),
			asm.Mov.Reg(asm.R1, asm.R7),
			asm.Add.Imm(asm.R1, otherHeader),
			asm.LoadMem(asm.R3, asm.RFP, slotAddr, asm.DWord),
			asm.FnProbeReadUser.Call(),
			asm.JEq.Imm(asm.R0, 0, copied),
		)
	}
	p.add(
		asm.LoadMem(asm.R3, asm.RFP, slotAddr, asm.DWord),
		asm.StoreMem(asm.R7, otherAddr, asm.R3, asm.DWord),
		asm.LoadMem(asm.R2, asm.RFP, slotLimit, asm.DWord),
		asm.JEq.Imm(asm.R2, 0, out+"none"),
	)
	load()
	p.add(
		asm.LoadMem(asm.R3, asm.RFP, slotAddr, asm.DWord),
		asm.And.Imm(asm.R3, page-1),
		asm.Mov.Imm(asm.R2, page),
		asm.Sub.Reg(asm.R2, asm.R3),
	)
	load()
	p.here(out + "none")
	p.add(
		asm.Mov.Imm(asm.R2, 0),
		asm.StoreMem(asm.RFP, slotWord, asm.R2, asm.DWord),
	)
	p.here(copied)
	p.add(
		asm.LoadMem(asm.R5, asm.RFP, slotWord, asm.DWord),
		asm.StoreMem(asm.R7, otherLength, asm.R5, asm.DWord),
		asm.JGT.Imm(asm.R5, otherBytes, over),
		asm.LoadMem(asm.R3, asm.RFP, slotAddr, asm.DWord),
		asm.Add.Reg(asm.R3, asm.R5),
		asm.StoreMem(asm.RFP, slotAddr, asm.R3, asm.DWord), // where the next record goes on
		asm.Mov.Reg(asm.R1, asm.R6),
		asm.LoadMapPtr(asm.R2, p.outputs),
		asm.LoadImm(asm.R3, 0xffffffff, asm.DWord), // BPF_F_CURRENT_CPU
		asm.Mov.Reg(asm.R4, asm.R7),
		asm.Add.Imm(asm.R5, otherHeader),
		asm.FnPerfEventOutput.Call(),
	)
	p.here(over)
}
