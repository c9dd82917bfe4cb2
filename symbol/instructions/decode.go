package instructions

import "golang.org/x/arch/x86/x86asm"

// Decode reads an instruction; n is 0 where there is none. Those with the prefixes VEX and
// EVEX, which the decoder does not know, have a length only: none of them is a jump or
// changes the stack.
func Decode(b []byte) (in x86asm.Inst, n int) {
	if n := vectorLength(b); n > 0 {
		return x86asm.Inst{}, n
	}
	// Marks of places that may be jumped to, which the decoder takes for something else.
	if len(b) >= 4 && b[0] == 0xf3 && b[1] == 0x0f && b[2] == 0x1e && (b[3] == 0xfa || b[3] == 0xfb) {
		return x86asm.Inst{Op: x86asm.PAUSE}, 4
	}
	in, err := x86asm.Decode(b, 64)
	if err != nil || in.Len == 0 {
		return in, 0
	}
	// Prefixes that stand alone before a padding instruction belong to it.
	return in, in.Len
}

// vectorLength is the length of an instruction with a VEX or EVEX prefix (Intel's manual,
// volume 2, sections 2.3 and 2.7), 0 for any other.
func vectorLength(b []byte) int {
	if len(b) < 4 {
		return 0
	}
	var opcodes byte // which of the three maps
	at := 0
	switch b[0] {
	case 0xc5:
		opcodes, at = 1, 2
	case 0xc4:
		opcodes, at = b[1]&0x1f, 3
	case 0x62:
		opcodes, at = b[1]&0x07, 4
	default:
		return 0
	}
	if at+2 > len(b) || opcodes < 1 || opcodes > 6 {
		return 0
	}
	opcode := b[at]
	if at++; opcodes == 1 && opcode == 0x77 && b[0] != 0x62 { // vzeroupper has no operands
		return at
	}
	modrm := b[at]
	at++
	mode, base := modrm>>6, modrm&7
	if mode != 3 && base == 4 {
		if at >= len(b) {
			return 0
		}
		base = b[at] & 7
		at++
	}
	switch {
	case mode == 1:
		at++
	case mode == 2, mode == 0 && base == 5:
		at += 4
	}
	if opcodes == 3 || opcodes == 1 && hasImmediate(opcode) {
		at++
	}
	if at > len(b) {
		return 0
	}
	return at
}

// hasImmediate reports whether an instruction of the first map has a byte behind it.
func hasImmediate(opcode byte) bool {
	switch opcode {
	case 0x70, 0x71, 0x72, 0x73, 0xc2, 0xc4, 0xc5, 0xc6:
		return true
	}
	return false
}
