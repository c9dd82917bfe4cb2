package bpf

import (
	"fmt"

	"github.com/cilium/ebpf/asm"
)

// assembler puts the kernel program together, with labels for its jumps.
type assembler struct {
	code    asm.Instructions
	outputs int    // the map of the events to write to
	next    string // label of the next instruction
	labels  int
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

// lookup finds the value of a map for the key in slotKey, and leaves it in r0;
// it goes to the label where there is none.
func (p *assembler) lookup(fd int, none string) {
	p.add(
		asm.LoadMapPtr(asm.R1, fd),
		asm.Mov.Reg(asm.R2, asm.RFP),
		asm.Add.Imm(asm.R2, slotKey),
		asm.FnMapLookupElem.Call(),
		asm.JEq.Imm(asm.R0, 0, none),
	)
}

// store puts a number into memory, by way of r0.
func (p *assembler) store(to asm.Register, at int16, v int32) {
	p.add(asm.Mov.Imm(asm.R0, v), asm.StoreMem(to, at, asm.R0, asm.DWord))
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

// readField reads a word of what the address in a slot points to, at the offset that
// stands at a place of what r9 points to.
func (p *assembler) readField(of, place, slot int16, failed string) {
	p.add(
		asm.LoadMem(asm.R3, asm.RFP, of, asm.DWord),
		asm.LoadMem(asm.R1, asm.R9, place, asm.DWord),
		asm.Add.Reg(asm.R3, asm.R1),
	)
	p.readUser(slot, 8, failed)
}
