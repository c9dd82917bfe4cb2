package bpf

import "github.com/cilium/ebpf/asm"

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
	slotCopied = -72 // how much of the stack at r8 is copied already
	slotEnd    = -80
	slotClock  = -88 // where the stack was left to ask for the time: its pointer,
	slotClockP = -96 // and the program counter
)

// stackProgram is the program. It keeps the sample's context in r6, the
// scratch memory in r7, the program's stack pointer in r8, and the task in r9.
func stackProgram(o KernelOffsets, stackBytes, runtime, scratch int, m pythonMaps) asm.Instructions {
	p := &assembler{outputs: m.outputs}
	p.enter(o, stackBytes, scratch)
	p.signalStack(o, o.SignalFrame)
	p.deepStack(o)
	p.goStack(o, runtime)
	p.here("out")
	p.findPython(o, m, "done")
	p.here("done")
	p.add(
		asm.Mov.Imm(asm.R0, 1), // the sample itself is kept in any case
		asm.Return(),
	)
	return p.code
}

// tracedProgram is the part of it that runs at a tracepoint or a probe, where
// it runs for every process of the machine: it does something only in those
// whose runtime it was told of.
func tracedProgram(o KernelOffsets, stackBytes, runtime, scratch int, m pythonMaps) asm.Instructions {
	p := &assembler{outputs: m.outputs}
	p.enter(o, stackBytes, scratch)
	p.goStack(o, runtime)
	p.here("out")
	p.findPython(o, m, "done")
	p.here("done")
	p.add(asm.Mov.Imm(asm.R0, 1), asm.Return())
	return p.code
}

// enter sets the registers, and the slots that all parts use.
func (p *assembler) enter(o KernelOffsets, stackBytes, scratch int) {
	p.add(
		asm.Mov.Reg(asm.R6, asm.R1),
		asm.FnGetCurrentTaskBtf.Call(),
		asm.Mov.Reg(asm.R9, asm.R0),
		asm.Mov.Reg(asm.R1, asm.R9),
		asm.FnTaskPtRegs.Call(),
		asm.LoadMem(asm.R8, asm.R0, int16(o.StackPointer), asm.DWord),
	)
	p.store(asm.RFP, slotKey, 0)
	p.store(asm.RFP, slotCopied, int32(stackBytes))
	p.lookup(scratch, "out")
	p.add(asm.Mov.Reg(asm.R7, asm.R0))
}

// signalStack looks whether the thread runs on its signal stack. If so, the
// outermost signal frame at the stack's end holds the interrupted registers;
// what they point to is copied, and counts as the stack from then on. How far
// from the end the frame is depends on the processor's registers and on how
// the end is aligned, so it is looked for around frameBytes, the most that it
// takes: it holds the signal stack's own bounds (struct ucontext, uc_stack).
func (p *assembler) signalStack(o KernelOffsets, frameBytes int32) {
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
		asm.Add.Imm(asm.R1, OtherHeader),
		asm.Mov.Imm(asm.R2, looked),
		asm.FnProbeReadUser.Call(),
		asm.JNE.Imm(asm.R0, 0, none),
		asm.LoadMem(asm.R1, asm.RFP, slotG, asm.DWord),
		asm.LoadMem(asm.R2, asm.RFP, slotM, asm.DWord),
	)
	for at := int16(OtherHeader); at+stackSP+8 <= OtherHeader+looked; at += 16 {
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
	p.store(asm.R7, OtherKind, KindStack)
	p.add(asm.StoreMem(asm.RFP, slotAddr, asm.R8, asm.DWord))
	some, all := p.label(), p.label()
	p.left(o, all)
	p.add(asm.JLT.Imm(asm.R2, otherBytes, some))
	p.here(all)
	p.add(asm.Mov.Imm(asm.R2, otherBytes))
	p.here(some)
	p.add(asm.StoreMem(asm.RFP, slotLimit, asm.R2, asm.DWord))
	p.emit()
	p.store(asm.RFP, slotCopied, otherBytes)
	p.here(none)
}

// left sets r2 to how much of the stack is left from r8 to where it begins;
// it goes to the label where that is not known. It is known for a process's
// first thread, from the kernel, and for the others, whose thread pointer is
// at the stack's begin.
func (p *assembler) left(o KernelOffsets, unknown string) {
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
func (p *assembler) deepStack(o KernelOffsets) {
	none := p.label()
	p.left(o, none)
	p.store(asm.R7, OtherKind, KindStack)
	p.more(none)
	p.here(none)
}

// more copies a stack that r2 bytes are left of, from where the copy so far
// ends; it goes to the label where there is nothing.
func (p *assembler) more(none string) {
	p.add(
		asm.LoadMem(asm.R3, asm.RFP, slotCopied, asm.DWord),
		asm.Sub.Reg(asm.R2, asm.R3),
		asm.JSLE.Imm(asm.R2, 0, none),
		asm.Mov.Reg(asm.R1, asm.R8),
		asm.Add.Reg(asm.R1, asm.R3),
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
			asm.Add.Imm(asm.R1, OtherHeader),
			asm.LoadMem(asm.R3, asm.RFP, slotAddr, asm.DWord),
			asm.FnProbeReadUser.Call(),
			asm.JEq.Imm(asm.R0, 0, copied),
		)
	}
	p.add(
		asm.LoadMem(asm.R3, asm.RFP, slotAddr, asm.DWord),
		asm.StoreMem(asm.R7, OtherAddr, asm.R3, asm.DWord),
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
		asm.StoreMem(asm.R7, OtherLength, asm.R5, asm.DWord),
		asm.JGT.Imm(asm.R5, otherBytes, over),
		asm.LoadMem(asm.R3, asm.RFP, slotAddr, asm.DWord),
		asm.Add.Reg(asm.R3, asm.R5),
		asm.StoreMem(asm.RFP, slotAddr, asm.R3, asm.DWord), // where the next record goes on
	)
	p.send()
	p.here(over)
}
