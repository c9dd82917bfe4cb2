package sampler

import (
	"encoding/binary"
	"slices"
	"unicode/utf8"

	"github.com/cilium/ebpf/asm"

	"entelon/core/profile"
)

// A Go program labels its work with the functions of runtime/pprof that are made
// for it. The runtime keeps the labels of a goroutine with it, as a list of names
// and values in the order of the names. Like the stacks that a thread left, they
// can only be read at the moment of the sample: the goroutine changes them as it
// goes. Each is copied into a place of its own size in the record.

const (
	mostLabels     = 8
	labelNameBytes = 40 // what is longer is cut
	labelTextBytes = 72
	labelBytes     = 8 + labelNameBytes + 8 + labelTextBytes
)

// goLabels writes the labels of the goroutine in slotCur, whose process has its
// places at r9, with how many there are. Where it has none nothing is written.
func (p *assembler) goLabels() {
	const (
		header  = 16 // of the list: where it is, and how many
		pair    = 32 // of a label: the name's place and length, the value's
		reading = otherHeader + mostLabels*labelBytes
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
	p.store(asm.R7, otherKind, kindLabels)
	p.store(asm.R7, otherLow, 1) // at least one, until it is known
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
		asm.StoreMem(asm.R7, otherLow, asm.R1, asm.DWord), // how many there are
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
	for i := range int32(mostLabels) {
		at := int16(otherHeader + i*labelBytes)
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
		text(reading, at, labelNameBytes)
		text(reading+16, at+8+labelNameBytes, labelTextBytes)
		p.store(asm.RFP, slotEnd, (i+1)*labelBytes)
	}
	p.here(write)
	p.add(
		asm.LoadMem(asm.R5, asm.RFP, slotEnd, asm.DWord),
		asm.JGT.Imm(asm.R5, mostLabels*labelBytes, none), // what the kernel's check needs to see
		asm.StoreMem(asm.R7, otherLength, asm.R5, asm.DWord),
	)
	p.send()
	p.here(none)
}

// labelsOf reads a record of labels; whole reports that these are all of them.
// Names of a set stand in order; where they do not, or a text is none, it was
// something else that was read.
func labelsOf(record []byte, b *profile.Builder) (set profile.LabelSetID, whole bool) {
	ne := binary.NativeEndian
	if len(record) < beforeOther+otherHeader {
		return 0, false
	}
	record = record[beforeOther:]
	body := record[otherHeader:]
	body = body[:min(uint64(len(body)), ne.Uint64(record[otherLength:]))]
	text := func(at, most int) (string, bool) {
		n := int(min(ne.Uint64(body[at:]), uint64(most)))
		t := body[at+8 : at+8+n]
		if n == most { // it may be cut within a character
			for range utf8.UTFMax - 1 {
				if r, size := utf8.DecodeLastRune(t); r != utf8.RuneError || size != 1 {
					break
				}
				t = t[:len(t)-1]
			}
		}
		return string(t), utf8.Valid(t) && !slices.Contains(t, 0)
	}
	n, before := uint64(0), ""
	for ; len(body) >= labelBytes; body = body[labelBytes:] {
		name, good := text(0, labelNameBytes)
		value, fine := text(8+labelNameBytes, labelTextBytes)
		if !good || !fine || name == "" || before > name {
			return 0, false
		}
		before = name
		set = b.Label(set, name, value)
		n++
	}
	return set, n == ne.Uint64(record[otherLow:])
}
