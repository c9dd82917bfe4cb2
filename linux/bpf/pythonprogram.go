package bpf

import (
	"github.com/cilium/ebpf/asm"

	"entelon/runtimes/python"
)

// pythonPlaces is what the kernel's programs need to know of a process that
// runs CPython; the order is that of placesWord.
type pythonPlaces struct {
	CodeStart   uint64 // where the process's code began when this was noted, 0: not noted yet
	First       uint64 // address of the pointer to the first interpreter, or from the code's begin
	Relative    uint64 // 1: from the code's begin
	NextInterp  uint64
	Threads     uint64
	NextThread  uint64
	ThreadID    uint64
	Current     uint64
	CFrame      uint64 // 1: a _PyCFrame is between
	Marked      uint64 // 1: frames are marked as entries
	InCFrame    uint64
	FrameSize   uint64
	Code        uint64
	CodeMask    uint64
	Previous    uint64
	Instr       uint64
	Flags       uint64
	EntryShift  uint64 // in the flags
	Filename    uint64
	FirstLine   uint64
	LineTable   uint64
	TableLength uint64 // in a bytes object
	Qualname    uint64
}

const (
	placeCodeStart = 8 * iota
	placeFirst
	placeRelative
	placeNextInterp
	placeThreads
	placeNextThread
	placeThreadID
	placeCurrent
	placeCFrame
	placeMarked
	placeInCFrame
	placeFrameSize
	placeCode
	placeCodeMask
	placePrevious
	placeInstr
	placeFlags
	placeEntryShift
	placeFilename
	placeFirstLine
	placeLineTable
	placeTableLength
	placeQualname
	placesBytes
)

func placesOf(l *python.Layout, first uint64, relative bool) pythonPlaces {
	p := pythonPlaces{
		First: first, NextInterp: l.NextInterp, Threads: l.Threads, NextThread: l.NextThread, ThreadID: l.ThreadID,
		Current: l.Current, InCFrame: l.InCFrame, FrameSize: min(l.Frame.Size, python.MaxFrame), Code: l.Frame.Code, CodeMask: l.Frame.CodeMask,
		Previous: l.Frame.Previous, Instr: l.Frame.Instr, Flags: l.Frame.Flags, EntryShift: 8 * l.Frame.Entry,
		Filename: l.Code.Filename, FirstLine: l.Code.FirstLine, LineTable: l.Code.LineTable, TableLength: l.BytesSize,
		Qualname: l.Code.Qualname,
	}
	if relative {
		p.Relative = 1
	}
	if l.CFrame {
		p.CFrame = 1
	}
	if l.Frame.Marked {
		p.Marked = 1
	}
	return p
}

// How far the programs go. A thread has one state in each interpreter that it
// was in; a record has so many frames, and so many records follow each other.
const (
	mostStates    = 4
	mostThreads   = 1000 // threads and interpreters that are looked at for the present thread
	threadsAtOnce = 100
	recordFrames  = 64
	codesAtOnce   = 8
	scratchPython = 32 << 10
)

// The scratch memory of the programs: the record that is being written, one
// frame, the states found, and the code objects that are still to be read.
const (
	pyRecord  = 0
	pyEntries = OtherHeader
	pyFrame   = 16 << 10
	pyStates  = pyFrame + 256
	pyFound   = pyStates + 8*mostStates // how many there are
	pyState   = pyFound + 8             // which of them is next
	pyNext    = pyState + 8             // frame to go on from, 0: from the innermost
	pyCFrame  = pyNext + 8
	pyPending = pyCFrame + 8 // how many codes are to be read
	pyDone    = pyPending + 8
	pyCodes   = pyDone + 8
	pyPlaces  = pyCodes + 32*recordFrames // a copy, so that they are found without a look-up
	pyKey     = pyPlaces + placesBytes
	pyStart   = pyKey + 8   // where the process's code begins
	pyTP      = pyStart + 8 // the thread's pointer to itself
	pyThread  = pyTP + 8    // where the search for its states is
	pyInterp  = pyThread + 8
	pyRounds  = pyInterp + 8
	pyAddress = pyRounds + 8 // of the state whose frames are read
	CodeName  = OtherHeader
	CodeFile  = CodeName + python.NameBytes
	CodeTable = CodeFile + python.FileBytes
	codeBytes = CodeTable + python.TableBytes
)

// Programs call each other by these numbers.
const (
	callPythonStates = iota
	callPythonFrames
	callPythonCodes
	callCount
)

// Places on the programs' own stack, besides those of the program before.
const (
	slotTGID   = -88 // and the parent's
	slotInterp = -96
	slotThread = -104
	slotTP     = -112
	slotStart  = -120
	slotFrame  = -136
	slotCFrame = -144
	slotValue  = -152
	slotSeen   = -176 // a key: tgid and start of code, code object
)

// pythonMaps are the maps that the programs share.
type pythonMaps struct{ places, scratch, seen, calls, outputs int }

// findPython looks whether the process runs CPython, and if so goes on to
// the program that finds the states of the present thread. It is the end of
// the first program, and all of this that other processes pay for.
func (p *assembler) findPython(o KernelOffsets, m pythonMaps, out string) {
	found, noted, fork := p.label(), p.label(), p.label()
	p.add(
		asm.FnGetCurrentTaskBtf.Call(),
		asm.Mov.Reg(asm.R9, asm.R0),
		asm.LoadMem(asm.R1, asm.R9, int16(o.Memory), asm.DWord),
		asm.JEq.Imm(asm.R1, 0, out),
		asm.LoadMem(asm.R2, asm.R1, int16(o.CodeStart), asm.DWord),
		asm.StoreMem(asm.RFP, slotStart, asm.R2, asm.DWord),
		asm.LoadMem(asm.R2, asm.R9, int16(o.ThreadPointer), asm.DWord),
		asm.StoreMem(asm.RFP, slotTP, asm.R2, asm.DWord),
		asm.LoadMem(asm.R2, asm.R9, int16(o.ThreadGroup), asm.Word),
		asm.StoreMem(asm.RFP, slotKey, asm.R2, asm.Word),
		asm.StoreMem(asm.RFP, slotTGID, asm.R2, asm.DWord),
	)
	p.lookup(m.places, fork)
	p.add(
		asm.LoadMem(asm.R1, asm.R0, placeCodeStart, asm.DWord),
		asm.JEq.Imm(asm.R1, 0, noted),
		asm.LoadMem(asm.R2, asm.RFP, slotStart, asm.DWord),
		asm.JEq.Reg(asm.R1, asm.R2, found),
	)
	p.here(fork)
	// A child has what its parent has, until it begins another program.
	p.add(
		asm.LoadMem(asm.R1, asm.R9, int16(o.Parent), asm.DWord),
		asm.JEq.Imm(asm.R1, 0, out),
		asm.LoadMem(asm.R2, asm.R1, int16(o.ThreadGroup), asm.Word),
		asm.StoreMem(asm.RFP, slotKey, asm.R2, asm.Word),
	)
	p.lookup(m.places, out)
	p.add(
		asm.LoadMem(asm.R1, asm.R0, placeCodeStart, asm.DWord),
		asm.LoadMem(asm.R2, asm.RFP, slotStart, asm.DWord),
		asm.JEq.Reg(asm.R1, asm.R2, found),
		asm.Ja.Label(out),
	)
	p.here(noted)
	p.add(
		asm.LoadMem(asm.R2, asm.RFP, slotStart, asm.DWord),
		asm.StoreMem(asm.R0, placeCodeStart, asm.R2, asm.DWord),
	)
	p.here(found)
	p.add(asm.Mov.Reg(asm.R9, asm.R0))
	p.store(asm.RFP, slotKey, 0)
	p.lookup(m.scratch, out)
	p.add(asm.Mov.Reg(asm.R7, asm.R0))
	for at := int16(0); at < placesBytes; at += 8 {
		p.add(
			asm.LoadMem(asm.R1, asm.R9, at, asm.DWord),
			asm.StoreMem(asm.R7, pyPlaces+at, asm.R1, asm.DWord),
		)
	}
	for _, at := range []int16{pyFound, pyState, pyNext, pyCFrame, pyPending, pyDone, pyThread, pyInterp, pyRounds} {
		p.store(asm.R7, at, 0)
	}
	p.add(
		asm.LoadMem(asm.R1, asm.RFP, slotTGID, asm.DWord),
		asm.LoadMem(asm.R2, asm.RFP, slotStart, asm.DWord),
		asm.LSh.Imm(asm.R2, 20), // the lowest bits are of the page, the highest the same for all
		asm.Or.Reg(asm.R1, asm.R2),
		asm.StoreMem(asm.R7, pyKey, asm.R1, asm.DWord),
		asm.LoadMem(asm.R1, asm.RFP, slotStart, asm.DWord),
		asm.StoreMem(asm.R7, pyStart, asm.R1, asm.DWord),
		asm.LoadMem(asm.R1, asm.RFP, slotTP, asm.DWord),
		asm.StoreMem(asm.R7, pyTP, asm.R1, asm.DWord),
	)
	p.call(m.calls, callPythonStates)
}

// pythonStates is the program that finds the states of the present thread. It
// looks at some of all threads' states, calls itself for more, and then goes
// on to the frames.
func pythonStates(m pythonMaps) asm.Instructions {
	p := &assembler{outputs: m.outputs}
	p.begin(m)
	const out = "out"
	loop, nextInterp, have, next, done, absolute, more := p.label(), p.label(), p.label(), p.label(), p.label(), p.label(), p.label()
	p.add(
		asm.LoadMem(asm.R1, asm.R7, pyThread, asm.DWord),
		asm.LoadMem(asm.R2, asm.R7, pyInterp, asm.DWord),
		asm.StoreMem(asm.RFP, slotThread, asm.R1, asm.DWord),
		asm.StoreMem(asm.RFP, slotInterp, asm.R2, asm.DWord),
		asm.Mov.Imm(asm.R8, 0),
		asm.JNE.Imm(asm.R2, 0, loop),
		asm.LoadMem(asm.R3, asm.R7, pyPlaces+placeFirst, asm.DWord),
		asm.LoadMem(asm.R1, asm.R7, pyPlaces+placeRelative, asm.DWord),
		asm.JEq.Imm(asm.R1, 0, absolute),
		asm.LoadMem(asm.R1, asm.R7, pyStart, asm.DWord),
		asm.Add.Reg(asm.R3, asm.R1),
	)
	p.here(absolute)
	p.readUser(slotInterp, 8, out)
	p.add(
		asm.LoadMem(asm.R3, asm.RFP, slotInterp, asm.DWord),
		asm.JEq.Imm(asm.R3, 0, out), // it has not begun
		asm.LoadMem(asm.R1, asm.R7, pyPlaces+placeThreads, asm.DWord),
		asm.Add.Reg(asm.R3, asm.R1),
	)
	p.readUser(slotThread, 8, out)
	p.here(loop)
	p.add(
		asm.Add.Imm(asm.R8, 1),
		asm.JGT.Imm(asm.R8, threadsAtOnce, more),
		asm.LoadMem(asm.R3, asm.RFP, slotThread, asm.DWord),
		asm.JEq.Imm(asm.R3, 0, nextInterp),
		asm.LoadMem(asm.R1, asm.R7, pyPlaces+placeThreadID, asm.DWord),
		asm.Add.Reg(asm.R3, asm.R1),
	)
	p.readUser(slotWord, 8, done)
	p.add(
		asm.LoadMem(asm.R1, asm.RFP, slotWord, asm.DWord),
		asm.LoadMem(asm.R2, asm.R7, pyTP, asm.DWord),
		asm.JEq.Reg(asm.R1, asm.R2, have),
	)
	p.here(next)
	p.add(
		asm.LoadMem(asm.R3, asm.RFP, slotThread, asm.DWord),
		asm.LoadMem(asm.R1, asm.R7, pyPlaces+placeNextThread, asm.DWord),
		asm.Add.Reg(asm.R3, asm.R1),
	)
	p.readUser(slotThread, 8, done)
	p.add(asm.Ja.Label(loop))
	p.here(have)
	p.add(
		asm.LoadMem(asm.R1, asm.R7, pyFound, asm.DWord),
		asm.JGE.Imm(asm.R1, mostStates, done),
		asm.Mov.Reg(asm.R2, asm.R1),
		asm.Add.Imm(asm.R2, 1),
		asm.StoreMem(asm.R7, pyFound, asm.R2, asm.DWord),
		asm.LSh.Imm(asm.R1, 3),
		asm.Mov.Reg(asm.R2, asm.R7),
		asm.Add.Reg(asm.R2, asm.R1),
		asm.LoadMem(asm.R3, asm.RFP, slotThread, asm.DWord),
		asm.StoreMem(asm.R2, pyStates, asm.R3, asm.DWord),
		asm.Ja.Label(next),
	)
	p.here(nextInterp)
	p.add(
		asm.LoadMem(asm.R3, asm.RFP, slotInterp, asm.DWord),
		asm.LoadMem(asm.R1, asm.R7, pyPlaces+placeNextInterp, asm.DWord),
		asm.Add.Reg(asm.R3, asm.R1),
	)
	p.readUser(slotInterp, 8, done)
	p.add(
		asm.LoadMem(asm.R3, asm.RFP, slotInterp, asm.DWord),
		asm.JEq.Imm(asm.R3, 0, done),
		asm.LoadMem(asm.R1, asm.R7, pyPlaces+placeThreads, asm.DWord),
		asm.Add.Reg(asm.R3, asm.R1),
	)
	p.readUser(slotThread, 8, done)
	p.add(asm.Ja.Label(loop))
	p.here(more)
	p.add(
		asm.LoadMem(asm.R1, asm.RFP, slotThread, asm.DWord),
		asm.LoadMem(asm.R2, asm.RFP, slotInterp, asm.DWord),
		asm.StoreMem(asm.R7, pyThread, asm.R1, asm.DWord),
		asm.StoreMem(asm.R7, pyInterp, asm.R2, asm.DWord),
		asm.LoadMem(asm.R1, asm.R7, pyRounds, asm.DWord),
		asm.JGE.Imm(asm.R1, mostThreads/threadsAtOnce, done),
		asm.Add.Imm(asm.R1, 1),
		asm.StoreMem(asm.R7, pyRounds, asm.R1, asm.DWord),
	)
	p.call(m.calls, callPythonStates)
	p.here(done)
	p.call(m.calls, callPythonFrames)
	p.end()
	return p.code
}

// call goes on with another program; where that is not possible, the sample
// is kept as it is.
func (p *assembler) call(calls int, number int32) {
	p.add(
		asm.Mov.Reg(asm.R1, asm.R6),
		asm.LoadMapPtr(asm.R2, calls),
		asm.Mov.Imm(asm.R3, number),
		asm.FnTailCall.Call(),
	)
}

func (p *assembler) end() {
	p.here("out")
	p.add(asm.Mov.Imm(asm.R0, 1), asm.Return())
}

// begin is how a program begins that another one called.
func (p *assembler) begin(m pythonMaps) {
	p.add(asm.Mov.Reg(asm.R6, asm.R1))
	p.store(asm.RFP, slotKey, 0)
	p.lookup(m.scratch, "out")
	p.add(asm.Mov.Reg(asm.R7, asm.R0))
}
