package bpf

import "github.com/cilium/ebpf/asm"

// goStack looks whether the process is of the Go runtime, and where the
// thread left the goroutine's stack, or in a callback from C code the
// system's.
func (p *assembler) goStack(o KernelOffsets, runtime int) {
	const curBytes = 128 // of the goroutine: the stack's bounds first, then sched
	const place = OtherHeader + 64
	const clockFrame = 48 // what runtime.nanotime1 has of its own, with room
	sched := p.label()
	p.add(
		asm.FnGetCurrentPidTgid.Call(),
		asm.RSh.Imm(asm.R0, 32),
		asm.StoreMem(asm.RFP, slotKey, asm.R0, asm.Word),
	)
	p.lookup(runtime, "out")
	p.add(
		asm.LoadMem(asm.R3, asm.R9, int16(o.ThreadPointer), asm.DWord),
		asm.Mov.Reg(asm.R9, asm.R0), // the task is not needed any more
		asm.LoadMem(asm.R1, asm.R9, goPlaceTLS, asm.DWord),
		asm.Add.Reg(asm.R3, asm.R1),
	)
	p.readUser(slotG, 8, "out")
	p.add(
		asm.LoadMem(asm.R3, asm.RFP, slotG, asm.DWord),
		asm.JEq.Imm(asm.R3, 0, "out"), // a thread that the runtime does not know
	)
	p.readField(slotG, goPlaceM, slotM, "out")
	p.add(asm.LoadMem(asm.R3, asm.RFP, slotM, asm.DWord))
	p.readUser(slotSystem, 8, "out") // m.g0 is the first field
	p.readField(slotM, goPlaceCurrent, slotCur, "out")
	p.add(
		asm.LoadMem(asm.R3, asm.RFP, slotCur, asm.DWord),
		asm.JEq.Imm(asm.R3, 0, "idle"),
	)
	p.goLabels()
	p.add(
		asm.LoadMem(asm.R3, asm.RFP, slotCur, asm.DWord),
		asm.Mov.Reg(asm.R1, asm.R7),
		asm.Add.Imm(asm.R1, place),
		asm.Mov.Imm(asm.R2, curBytes),
		asm.FnProbeReadUser.Call(),
		asm.JNE.Imm(asm.R0, 0, "out"),
	)
	p.readField(slotSystem, goPlaceSched, slotWord, "out") // g0.sched.sp
	noClock := p.label()
	p.store(asm.RFP, slotClock, 0)
	p.add(
		asm.LoadMem(asm.R1, asm.R9, goPlaceClockSP, asm.DWord),
		asm.JEq.Imm(asm.R1, 0, noClock),
	)
	p.readField(slotM, goPlaceClockSP, slotClock, noClock)
	p.readField(slotM, goPlaceClockPC, slotClockP, "out")
	p.here(noClock)
	// The header. sched is the scheduler's record: sp, pc, and bp at 40.
	p.add(
		asm.LoadMem(asm.R1, asm.R7, place, asm.DWord),
		asm.LoadMem(asm.R2, asm.R7, place+8, asm.DWord),
		asm.StoreMem(asm.R7, OtherLow, asm.R1, asm.DWord),
		asm.StoreMem(asm.R7, OtherHigh, asm.R2, asm.DWord),
		asm.LoadMem(asm.R4, asm.RFP, slotWord, asm.DWord),
		asm.StoreMem(asm.R7, OtherSystemSP, asm.R4, asm.DWord),
		asm.LoadMem(asm.R3, asm.R9, goPlaceSched, asm.DWord),
		asm.JGT.Imm(asm.R3, curBytes-48, "out"),
		asm.Mov.Reg(asm.R5, asm.R7),
		asm.Add.Reg(asm.R5, asm.R3),
		asm.LoadMem(asm.R3, asm.R5, place, asm.DWord),
		asm.StoreMem(asm.R7, OtherSP, asm.R3, asm.DWord),
		asm.LoadMem(asm.R0, asm.R5, place+8, asm.DWord),
		asm.StoreMem(asm.R7, OtherPC, asm.R0, asm.DWord),
		asm.LoadMem(asm.R0, asm.R5, place+40, asm.DWord),
		asm.StoreMem(asm.R7, OtherBP, asm.R0, asm.DWord),
		asm.Mov.Imm(asm.R0, KindGoStack),
		asm.StoreMem(asm.R7, OtherKind, asm.R0, asm.DWord),
		asm.Mov.Imm(asm.R5, otherBytes),
		asm.StoreMem(asm.RFP, slotLimit, asm.R5, asm.DWord),
		// Who asks for the time has left the goroutine's stack without the scheduler.
		asm.LoadMem(asm.R4, asm.RFP, slotClock, asm.DWord),
		// On the system's own stack that says nothing of the goroutine's.
		asm.JLT.Reg(asm.R4, asm.R1, sched),
		asm.JGE.Reg(asm.R4, asm.R2, sched),
		asm.StoreMem(asm.R7, OtherSP, asm.R4, asm.DWord),
		asm.LoadMem(asm.R0, asm.RFP, slotClockP, asm.DWord),
		asm.StoreMem(asm.R7, OtherPC, asm.R0, asm.DWord),
		asm.Mov.Reg(asm.R3, asm.R4),
		asm.Sub.Imm(asm.R3, clockFrame),
	)
	p.here(sched)
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
		asm.LoadMem(asm.R4, asm.R7, OtherSystemSP, asm.DWord),
		asm.LoadMem(asm.R5, asm.R9, goPlaceCgo, asm.DWord),
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
	for _, at := range []int16{OtherAddr, OtherLow, OtherHigh, OtherSP, OtherPC, OtherBP, OtherSystemSP} {
		p.store(asm.R7, at, 0)
	}
	p.store(asm.RFP, slotLimit, 0)
	p.store(asm.RFP, slotAddr, 0)
	p.store(asm.R7, OtherKind, KindGoStack)
	p.emit()
}
