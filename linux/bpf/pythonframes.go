package bpf

import (
	"github.com/cilium/ebpf/asm"

	"entelon/runtimes/python"
)

// pythonFrames is the program that writes one record of frames: it follows the
// chain of one thread state, notes the code objects that were not met before,
// writes the record, and goes on with the rest, or with those code objects.
func pythonFrames(m pythonMaps) asm.Instructions {
	p := &assembler{outputs: m.outputs}
	p.begin(m)
	start, loop, full, write, again, codes := p.label(), p.label(), p.label(), p.label(), p.label(), p.label()
	p.add(
		asm.Mov.Imm(asm.R8, 0), // entries in the record
		asm.LoadMem(asm.R1, asm.R7, pyNext, asm.DWord),
		asm.LoadMem(asm.R2, asm.R7, pyCFrame, asm.DWord),
		asm.StoreMem(asm.RFP, slotFrame, asm.R1, asm.DWord),
		asm.StoreMem(asm.RFP, slotCFrame, asm.R2, asm.DWord),
		asm.JNE.Imm(asm.R1, 0, loop),
		// The next state, if there is one.
		asm.LoadMem(asm.R1, asm.R7, pyState, asm.DWord),
		asm.LoadMem(asm.R2, asm.R7, pyFound, asm.DWord),
		asm.JGE.Reg(asm.R1, asm.R2, codes),
		asm.JGE.Imm(asm.R1, mostStates, codes),
		asm.Mov.Reg(asm.R2, asm.R1),
		asm.Add.Imm(asm.R2, 1),
		asm.StoreMem(asm.R7, pyState, asm.R2, asm.DWord),
		asm.LSh.Imm(asm.R1, 3),
		asm.Mov.Reg(asm.R2, asm.R7),
		asm.Add.Reg(asm.R2, asm.R1),
		asm.LoadMem(asm.R3, asm.R2, pyStates, asm.DWord),
		asm.StoreMem(asm.R7, pyAddress, asm.R3, asm.DWord),
		asm.LoadMem(asm.R1, asm.R7, pyPlaces+placeCurrent, asm.DWord),
		asm.Add.Reg(asm.R3, asm.R1),
	)
	p.readUser(slotFrame, 8, "out")
	p.add(
		asm.LoadMem(asm.R1, asm.R7, pyPlaces+placeCFrame, asm.DWord),
		asm.JEq.Imm(asm.R1, 0, start),
		asm.LoadMem(asm.R3, asm.RFP, slotFrame, asm.DWord),
		asm.StoreMem(asm.RFP, slotCFrame, asm.R3, asm.DWord),
		asm.LoadMem(asm.R1, asm.R7, pyPlaces+placeInCFrame, asm.DWord),
		asm.Add.Reg(asm.R3, asm.R1),
	)
	p.readUser(slotFrame, 8, "out")
	p.here(start)
	p.add(asm.Mov.Reg(asm.R0, asm.R0))
	p.here(loop)
	p.add(
		asm.LoadMem(asm.R3, asm.RFP, slotFrame, asm.DWord),
		asm.JEq.Imm(asm.R3, 0, write),
		asm.JGE.Imm(asm.R8, recordFrames, full),
	)
	p.frame(m, write)
	p.add(asm.Add.Imm(asm.R8, 1), asm.Ja.Label(loop))
	p.here(full)
	p.store(asm.R7, OtherLow, 1)
	p.add(asm.Ja.Label(again))
	p.here(write)
	p.store(asm.R7, OtherLow, 0)
	p.here(again)
	p.add(
		// What the next record goes on from; the last frame's caller is 0.
		asm.LoadMem(asm.R1, asm.RFP, slotFrame, asm.DWord),
		asm.LoadMem(asm.R2, asm.R7, OtherLow, asm.DWord),
		asm.Mul.Reg(asm.R1, asm.R2),
		asm.StoreMem(asm.R7, pyNext, asm.R1, asm.DWord),
		asm.LoadMem(asm.R1, asm.RFP, slotCFrame, asm.DWord),
		asm.StoreMem(asm.R7, pyCFrame, asm.R1, asm.DWord),
	)
	p.store(asm.R7, OtherKind, KindPython)
	p.add(
		// Code objects, whose records are made in the same place, may have come between.
		asm.LoadMem(asm.R1, asm.R7, pyAddress, asm.DWord),
		asm.StoreMem(asm.R7, OtherAddr, asm.R1, asm.DWord),
	)
	p.add(
		asm.Mov.Reg(asm.R5, asm.R8),
		asm.JGT.Imm(asm.R5, recordFrames, "out"),
		asm.Mul.Imm(asm.R5, python.EntryBytes),
		asm.StoreMem(asm.R7, OtherLength, asm.R5, asm.DWord),
	)
	p.output(recordFrames * python.EntryBytes)
	p.add(
		asm.LoadMem(asm.R1, asm.R7, pyPending, asm.DWord),
		asm.JNE.Imm(asm.R1, 0, codes),
	)
	p.call(m.calls, callPythonFrames)
	p.add(asm.Ja.Label("out"))
	p.here(codes)
	p.add(
		asm.LoadMem(asm.R1, asm.R7, pyPending, asm.DWord),
		asm.JEq.Imm(asm.R1, 0, "out"),
	)
	p.call(m.calls, callPythonCodes)
	p.end()
	return p.code
}

// output writes the record in the scratch memory, whose length behind its
// header is in r5 and at most as said.
func (p *assembler) output(most int32) {
	p.add(asm.JGT.Imm(asm.R5, most, "out")) // what the kernel's check needs to see
	p.send()
}

// send writes it, of a length that the kernel's check has seen to be bounded.
func (p *assembler) send() {
	p.add(
		asm.Mov.Reg(asm.R1, asm.R6),
		asm.LoadMapPtr(asm.R2, p.outputs),
		asm.LoadImm(asm.R3, 0xffffffff, asm.DWord), // BPF_F_CURRENT_CPU
		asm.Mov.Reg(asm.R4, asm.R7),
		asm.Add.Imm(asm.R5, OtherHeader),
		asm.FnPerfEventOutput.Call(),
	)
}

// place loads a word of the frame that was read into r, from where the places
// say.
func (p *assembler) place(r asm.Register, place int16) {
	p.add(
		asm.LoadMem(r, asm.R7, pyPlaces+place, asm.DWord),
		asm.JGT.Imm(r, python.MaxFrame-8, "out"),
		asm.Mov.Reg(asm.R1, asm.R7),
		asm.Add.Reg(asm.R1, r),
		asm.LoadMem(r, asm.R1, pyFrame, asm.DWord),
	)
}

// frame reads the frame at slotFrame into the entry of number r8, and steps to
// its caller; it goes to the label where it cannot be read.
func (p *assembler) frame(m pythonMaps, failed string) {
	same, none, inner := p.label(), p.label(), p.label()
	p.add(
		asm.LoadMem(asm.R2, asm.R7, pyPlaces+placeFrameSize, asm.DWord),
		asm.JGT.Imm(asm.R2, python.MaxFrame, failed),
		asm.JEq.Imm(asm.R2, 0, failed),
		asm.Mov.Reg(asm.R1, asm.R7),
		asm.Add.Imm(asm.R1, pyFrame),
		asm.FnProbeReadUser.Call(),
		asm.JNE.Imm(asm.R0, 0, failed),
		asm.Mov.Reg(asm.R9, asm.R8),
		asm.JGE.Imm(asm.R9, recordFrames, failed),
		asm.Mul.Imm(asm.R9, python.EntryBytes),
		asm.Add.Reg(asm.R9, asm.R7), // the entry, less the header
		asm.LoadMem(asm.R2, asm.RFP, slotFrame, asm.DWord),
		asm.StoreMem(asm.R9, pyEntries, asm.R2, asm.DWord),
	)
	p.place(asm.R3, placeCode)
	p.add(
		asm.LoadMem(asm.R2, asm.R7, pyPlaces+placeCodeMask, asm.DWord),
		asm.And.Reg(asm.R3, asm.R2),
		asm.StoreMem(asm.R9, pyEntries+8, asm.R3, asm.DWord),
	)
	p.place(asm.R2, placeInstr)
	p.add(asm.StoreMem(asm.R9, pyEntries+16, asm.R2, asm.DWord))
	p.place(asm.R2, placePrevious)
	p.add(
		asm.StoreMem(asm.R9, pyEntries+24, asm.R2, asm.DWord),
		asm.StoreMem(asm.RFP, slotFrame, asm.R2, asm.DWord),
	)
	p.place(asm.R4, placeFlags)
	p.add(
		asm.StoreMem(asm.R9, pyEntries+32, asm.R4, asm.DWord),
		asm.LoadMem(asm.R2, asm.RFP, slotCFrame, asm.DWord),
		asm.StoreMem(asm.R9, pyEntries+64, asm.R2, asm.DWord),
		// Of 3.11: where C code entered, the next outer record on the C stack.
		asm.LoadMem(asm.R1, asm.R7, pyPlaces+placeMarked, asm.DWord),
		asm.JEq.Imm(asm.R1, 0, inner),
		asm.LoadMem(asm.R1, asm.R7, pyPlaces+placeEntryShift, asm.DWord),
		asm.RSh.Reg(asm.R4, asm.R1),
		asm.And.Imm(asm.R4, 0xff),
		asm.JEq.Imm(asm.R4, 0, inner),
		asm.StoreMem(asm.RFP, slotValue, asm.R3, asm.DWord),
		asm.Mov.Reg(asm.R3, asm.R2),
		asm.LoadMem(asm.R1, asm.R7, pyPlaces+placeInCFrame, asm.DWord),
		asm.Add.Reg(asm.R3, asm.R1),
		asm.Add.Imm(asm.R3, 8),
	)
	p.readUser(slotCFrame, 8, failed)
	p.add(
		asm.LoadMem(asm.R3, asm.RFP, slotCFrame, asm.DWord),
		asm.LoadMem(asm.R1, asm.R7, pyPlaces+placeInCFrame, asm.DWord),
		asm.Add.Reg(asm.R3, asm.R1),
	)
	p.readUser(slotWord, 8, failed)
	p.add(
		asm.LoadMem(asm.R2, asm.RFP, slotWord, asm.DWord),
		asm.StoreMem(asm.R9, pyEntries+72, asm.R2, asm.DWord),
		asm.LoadMem(asm.R3, asm.RFP, slotValue, asm.DWord),
	)
	p.here(inner)
	// What tells the code object from another one, in one piece: file name,
	// name, qualified name, line table.
	p.add(
		asm.JEq.Imm(asm.R3, 0, none),
		asm.StoreMem(asm.RFP, slotSeen+8, asm.R3, asm.DWord),
		asm.LoadMem(asm.R1, asm.R7, pyPlaces+placeFilename, asm.DWord),
		asm.Add.Reg(asm.R3, asm.R1),
		asm.Mov.Reg(asm.R1, asm.R7),
		asm.Add.Imm(asm.R1, pyFrame+128),
		asm.Mov.Imm(asm.R2, 32),
		asm.FnProbeReadUser.Call(),
		asm.LoadMem(asm.R2, asm.R7, pyFrame+128, asm.DWord),
		asm.StoreMem(asm.R9, pyEntries+40, asm.R2, asm.DWord),
		asm.LoadMem(asm.R3, asm.R7, pyFrame+128+16, asm.DWord),
		asm.StoreMem(asm.R9, pyEntries+48, asm.R3, asm.DWord),
		asm.LoadMem(asm.R4, asm.R7, pyFrame+128+24, asm.DWord),
		asm.StoreMem(asm.R9, pyEntries+56, asm.R4, asm.DWord),
		asm.JNE.Imm(asm.R0, 0, none),
		asm.LoadMem(asm.R1, asm.R7, pyKey, asm.DWord),
		asm.StoreMem(asm.RFP, slotSeen, asm.R1, asm.DWord),
		asm.LoadMapPtr(asm.R1, m.seen),
		asm.Mov.Reg(asm.R2, asm.RFP),
		asm.Add.Imm(asm.R2, slotSeen),
		asm.FnMapLookupElem.Call(),
		asm.JEq.Imm(asm.R0, 0, same),
		asm.LoadMem(asm.R1, asm.R0, 0, asm.DWord),
		asm.LoadMem(asm.R2, asm.R7, pyFrame+128, asm.DWord),
		asm.JNE.Reg(asm.R1, asm.R2, same),
		asm.LoadMem(asm.R1, asm.R0, 8, asm.DWord),
		asm.LoadMem(asm.R2, asm.R7, pyFrame+128+16, asm.DWord),
		asm.JNE.Reg(asm.R1, asm.R2, same),
		asm.LoadMem(asm.R1, asm.R0, 16, asm.DWord),
		asm.LoadMem(asm.R2, asm.R7, pyFrame+128+24, asm.DWord),
		asm.JEq.Reg(asm.R1, asm.R2, none),
	)
	p.here(same)
	// Not met before: to be read when the record is written.
	p.add(
		asm.LoadMem(asm.R1, asm.R7, pyPending, asm.DWord),
		asm.JGE.Imm(asm.R1, recordFrames, none),
		asm.Mov.Reg(asm.R2, asm.R1),
		asm.Add.Imm(asm.R2, 1),
		asm.StoreMem(asm.R7, pyPending, asm.R2, asm.DWord),
		asm.LSh.Imm(asm.R1, 5),
		asm.Add.Reg(asm.R1, asm.R7),
		asm.LoadMem(asm.R2, asm.RFP, slotSeen+8, asm.DWord),
		asm.StoreMem(asm.R1, pyCodes, asm.R2, asm.DWord),
		asm.LoadMem(asm.R2, asm.R7, pyFrame+128, asm.DWord),
		asm.StoreMem(asm.R1, pyCodes+8, asm.R2, asm.DWord),
		asm.LoadMem(asm.R2, asm.R7, pyFrame+128+16, asm.DWord),
		asm.StoreMem(asm.R1, pyCodes+16, asm.R2, asm.DWord),
		asm.LoadMem(asm.R2, asm.R7, pyFrame+128+24, asm.DWord),
		asm.StoreMem(asm.R1, pyCodes+24, asm.R2, asm.DWord),
	)
	p.here(none)
	p.add(asm.Mov.Reg(asm.R0, asm.R0))
}

// pythonCodes is the program that reads code objects which were not met
// before, some at a time, and goes back to the frames when none is left.
func pythonCodes(m pythonMaps) asm.Instructions {
	p := &assembler{outputs: m.outputs}
	p.begin(m)
	p.add(asm.Mov.Imm(asm.R8, 0))
	loop, done, next := p.label(), p.label(), p.label()
	p.here(loop)
	p.add(
		asm.JGE.Imm(asm.R8, codesAtOnce, next),
		asm.Add.Imm(asm.R8, 1),
		asm.LoadMem(asm.R1, asm.R7, pyDone, asm.DWord),
		asm.LoadMem(asm.R2, asm.R7, pyPending, asm.DWord),
		asm.JGE.Reg(asm.R1, asm.R2, done),
		asm.JGE.Imm(asm.R1, recordFrames, done),
		asm.Mov.Reg(asm.R2, asm.R1),
		asm.Add.Imm(asm.R2, 1),
		asm.StoreMem(asm.R7, pyDone, asm.R2, asm.DWord),
		asm.LSh.Imm(asm.R1, 5),
		asm.Mov.Reg(asm.R9, asm.R7),
		asm.Add.Reg(asm.R9, asm.R1), // its words are at pyCodes from here
	)
	p.codeObject(m)
	p.add(asm.Ja.Label(loop))
	p.here(next)
	p.call(m.calls, callPythonCodes)
	p.add(asm.Ja.Label("out"))
	p.here(done)
	p.store(asm.R7, pyPending, 0)
	p.store(asm.R7, pyDone, 0)
	p.call(m.calls, callPythonFrames)
	p.end()
	return p.code
}

// codeObject writes the record of the code object whose words r9 leads to.
func (p *assembler) codeObject(m pythonMaps) {
	skip, all := p.label(), p.label()
	for i, at := range []int16{OtherAddr, OtherLow, OtherHigh, OtherSP} {
		p.add(
			asm.LoadMem(asm.R1, asm.R9, pyCodes+int16(8*i), asm.DWord),
			asm.StoreMem(asm.R7, at, asm.R1, asm.DWord),
		)
	}
	p.store(asm.R7, OtherKind, KindCode)
	p.add(
		asm.LoadMem(asm.R3, asm.R9, pyCodes, asm.DWord),
		asm.LoadMem(asm.R1, asm.R7, pyPlaces+placeFirstLine, asm.DWord),
		asm.Add.Reg(asm.R3, asm.R1),
	)
	p.store(asm.RFP, slotWord, 0)
	p.readUser(slotWord, 4, skip)
	p.add(
		asm.LoadMem(asm.R1, asm.RFP, slotWord, asm.DWord),
		asm.StoreMem(asm.R7, OtherPC, asm.R1, asm.DWord),
	)
	p.copyObject(pyCodes+16, CodeName, python.NameBytes)
	p.copyObject(pyCodes+8, CodeFile, python.FileBytes)
	// The line table is as long as it says.
	p.add(
		asm.LoadMem(asm.R3, asm.R9, pyCodes+24, asm.DWord),
		asm.LoadMem(asm.R1, asm.R7, pyPlaces+placeTableLength, asm.DWord),
		asm.Add.Reg(asm.R3, asm.R1),
	)
	p.readUser(slotWord, 8, skip)
	p.add(
		asm.LoadMem(asm.R2, asm.RFP, slotWord, asm.DWord),
		asm.Add.Imm(asm.R2, 64), // more than its head
		asm.JLE.Imm(asm.R2, python.TableBytes, all),
		asm.Mov.Imm(asm.R2, python.TableBytes),
	)
	p.here(all)
	p.add(
		asm.StoreMem(asm.RFP, slotLimit, asm.R2, asm.DWord),
		asm.Mov.Reg(asm.R1, asm.R7),
		asm.Add.Imm(asm.R1, CodeTable),
		asm.LoadMem(asm.R3, asm.R9, pyCodes+24, asm.DWord),
		asm.FnProbeReadUser.Call(),
	)
	whole := p.label()
	p.add(asm.JEq.Imm(asm.R0, 0, whole))
	p.add(
		asm.LoadMem(asm.R2, asm.RFP, slotLimit, asm.DWord),
		asm.Sub.Imm(asm.R2, 64-40), // its head is 32 bytes, or 40 with reference counts of threads
		asm.JSLE.Imm(asm.R2, 0, skip),
		asm.JGT.Imm(asm.R2, python.TableBytes, skip),
		asm.Mov.Reg(asm.R1, asm.R7),
		asm.Add.Imm(asm.R1, CodeTable),
		asm.LoadMem(asm.R3, asm.R9, pyCodes+24, asm.DWord),
		asm.FnProbeReadUser.Call(),
	)
	p.here(whole)
	p.add(
		asm.LoadMem(asm.R5, asm.RFP, slotLimit, asm.DWord),
		asm.JGT.Imm(asm.R5, python.TableBytes, skip),
		asm.Add.Imm(asm.R5, CodeTable-OtherHeader),
		asm.StoreMem(asm.R7, OtherLength, asm.R5, asm.DWord),
	)
	p.output(codeBytes - OtherHeader)
	p.add(
		asm.JNE.Imm(asm.R0, 0, skip),
		asm.LoadMem(asm.R1, asm.R7, pyKey, asm.DWord),
		asm.StoreMem(asm.RFP, slotSeen, asm.R1, asm.DWord),
		asm.LoadMem(asm.R1, asm.R9, pyCodes, asm.DWord),
		asm.StoreMem(asm.RFP, slotSeen+8, asm.R1, asm.DWord),
		asm.LoadMapPtr(asm.R1, m.seen),
		asm.Mov.Reg(asm.R2, asm.RFP),
		asm.Add.Imm(asm.R2, slotSeen),
		asm.Mov.Reg(asm.R3, asm.R9),
		asm.Add.Imm(asm.R3, pyCodes+8),
		asm.Mov.Imm(asm.R4, 0),
		asm.FnMapUpdateElem.Call(),
	)
	p.here(skip)
	p.add(asm.Mov.Reg(asm.R0, asm.R0))
}

// copyObject copies the object that the word at r9 leads to, as much of it as
// said or, where not all of that can be read, up to the end of the page.
func (p *assembler) copyObject(from, to int16, size int32) {
	const page = 4096
	done := p.label()
	p.add(
		asm.Mov.Reg(asm.R1, asm.R7),
		asm.Add.Imm(asm.R1, int32(to)),
		asm.Mov.Imm(asm.R2, size),
		asm.LoadMem(asm.R3, asm.R9, from, asm.DWord),
		asm.FnProbeReadUser.Call(),
		asm.JEq.Imm(asm.R0, 0, done),
		asm.LoadMem(asm.R3, asm.R9, from, asm.DWord),
		asm.Mov.Reg(asm.R4, asm.R3),
		asm.And.Imm(asm.R4, page-1),
		asm.Mov.Imm(asm.R2, page),
		asm.Sub.Reg(asm.R2, asm.R4),
		asm.JGT.Imm(asm.R2, size, done),
		asm.Mov.Reg(asm.R1, asm.R7),
		asm.Add.Imm(asm.R1, int32(to)),
		asm.FnProbeReadUser.Call(),
	)
	p.here(done)
	p.add(asm.Mov.Reg(asm.R0, asm.R0))
}
