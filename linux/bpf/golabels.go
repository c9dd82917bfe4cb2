package bpf

import (
	"github.com/cilium/ebpf/asm"
)

// A Go program labels its work with the functions of runtime/pprof that are made
// for it. The runtime keeps the labels of a goroutine with it, as a list of names
// and values in the order of the names. Like the stacks that a thread left, they
// can only be read at the moment of the sample: the goroutine changes them as it
// goes. Each is copied into a place of its own size in the record.

const (
	MaxLabels      = 8
	LabelNameBytes = 40 // what is longer is cut
	LabelTextBytes = 72
	LabelBytes     = 8 + LabelNameBytes + 8 + LabelTextBytes
)

// goLabels writes the labels of the goroutine in slotCur, whose process has its
// places at r9, with how many there are. Where it has none nothing is written.
func (p *assembler) goLabels() {
	const (
		header  = 16 // of the list: where it is, and how many
		pair    = 32 // of a label: the name's place and length, the value's
		reading = OtherHeader + MaxLabels*LabelBytes
	)
	none, write := p.label(), p.label()
	p.add(
		asm.LoadMem(asm.R1, asm.R9, goPlaceLabels, asm.DWord),
		asm.JEq.Imm(asm.R1, 0, none),
	)
	p.readField(slotCur, goPlaceLabels, slotWord, none)
	p.add(
		asm.LoadMem(asm.R3, asm.RFP, slotWord, asm.DWord),
		asm.JEq.Imm(asm.R3, 0, none),
	)
	p.store(asm.R7, OtherKind, KindLabels)
	p.store(asm.R7, OtherLow, 1) // at least one, until it is known
	p.store(asm.RFP, slotEnd, 0)
	p.add(
		asm.LoadMem(asm.R3, asm.RFP, slotWord, asm.DWord),
		asm.Mov.Reg(asm.R1, asm.R7),
		asm.Add.Imm(asm.R1, reading),
		asm.Mov.Imm(asm.R2, header),
		asm.FnProbeReadUser.Call(),
		asm.JNE.Imm(asm.R0, 0, write),
		asm.LoadMem(asm.R1, asm.R7, reading, asm.DWord),
		asm.StoreMem(asm.RFP, slotAddr, asm.R1, asm.DWord),
		asm.LoadMem(asm.R1, asm.R7, reading+8, asm.DWord),
		asm.StoreMem(asm.RFP, slotLimit, asm.R1, asm.DWord),
		asm.StoreMem(asm.R7, OtherLow, asm.R1, asm.DWord), // how many there are
	)
	// text copies a text whose place and length are at from; what cannot be read has no length.
	text := func(from, to int16, most int32) {
		fits, done := p.label(), p.label()
		p.add(
			asm.LoadMem(asm.R2, asm.R7, from+8, asm.DWord),
			asm.LoadMem(asm.R3, asm.R7, from, asm.DWord),
			asm.JLE.Imm(asm.R2, most, fits),
			asm.Mov.Imm(asm.R2, most),
		)
		p.here(fits)
		p.add(
			asm.StoreMem(asm.R7, to, asm.R2, asm.DWord),
			asm.Mov.Reg(asm.R1, asm.R7),
			asm.Add.Imm(asm.R1, int32(to)+8),
			asm.FnProbeReadUser.Call(),
			asm.JEq.Imm(asm.R0, 0, done),
		)
		p.store(asm.R7, to, 0)
		p.here(done)
	}
	for i := range int32(MaxLabels) {
		at := int16(OtherHeader + i*LabelBytes)
		p.add(
			asm.LoadMem(asm.R1, asm.RFP, slotLimit, asm.DWord),
			asm.JLE.Imm(asm.R1, i, write),
			asm.LoadMem(asm.R3, asm.RFP, slotAddr, asm.DWord),
			asm.Add.Imm(asm.R3, i*pair),
			asm.Mov.Reg(asm.R1, asm.R7),
			asm.Add.Imm(asm.R1, reading),
			asm.Mov.Imm(asm.R2, pair),
			asm.FnProbeReadUser.Call(),
			asm.JNE.Imm(asm.R0, 0, write),
		)
		text(reading, at, LabelNameBytes)
		text(reading+16, at+8+LabelNameBytes, LabelTextBytes)
		p.store(asm.RFP, slotEnd, (i+1)*LabelBytes)
	}
	p.here(write)
	p.add(
		asm.LoadMem(asm.R5, asm.RFP, slotEnd, asm.DWord),
		asm.JGT.Imm(asm.R5, MaxLabels*LabelBytes, none), // what the kernel's check needs to see
		asm.StoreMem(asm.R7, OtherLength, asm.R5, asm.DWord),
	)
	p.send()
	p.here(none)
}
