/* How a run of instructions ends, by its last one. */
#pragma once

#include <stddef.h>
#include <stdint.h>

#include "record.h"

static inline enum ending ending_of(const uint8_t *b, size_t n, uint16_t *branch)
{
	size_t i = 0;
	int repeated = 0;

	*branch = NO_BRANCH;
	for (; i < n; i++) {
		uint8_t c = b[i];

		if (c == 0xf2 || c == 0xf3)
			repeated = 1;
		else if (c != 0x66 && c != 0x67 && c != 0x2e && c != 0x36 && c != 0x3e && c != 0x26 && c != 0x64 && c != 0x65 && c != 0xf0 && (c & 0xf0) != 0x40)
			break;
	}
	if (i >= n)
		return GOES_ON;
	switch (b[i]) {
	case 0xe8:
		return CALLS;
	case 0xc2: case 0xc3:
		return RETURNS;
	case 0xe9: case 0xeb:
		return JUMPS;
	case 0xff:
		*branch = INDIRECT;
		if (i + 1 < n && (b[i + 1] & 0x38) == 0x10)
			return CALLS;
		if (i + 1 < n && (b[i + 1] & 0x38) == 0x20)
			return JUMPS;
		*branch = NO_BRANCH;
		return GOES_ON;
	case 0x0f:
		if (i + 1 >= n || (b[i + 1] & 0xf0) != 0x80)
			return GOES_ON;
		*branch = CONDITIONAL;
		return JUMPS;
	}
	if ((b[i] & 0xf0) == 0x70) {
		*branch = CONDITIONAL;
		return JUMPS;
	}
	/* Moving and comparing strings, and input and output of them. */
	if (repeated && ((b[i] >= 0xa4 && b[i] <= 0xa7) || (b[i] >= 0xaa && b[i] <= 0xaf) || (b[i] & 0xfc) == 0x6c))
		return REPEATS;
	return GOES_ON;
}

/* ending_of_arm64 is that of an arm64 processor, whose calls leave the address to return to in a
 * register. */
static inline enum ending ending_of_arm64(const uint8_t *b, size_t n, uint16_t *branch)
{
	uint32_t w;

	*branch = NO_BRANCH;
	if (n != 4)
		return GOES_ON;
	w = b[0] | b[1] << 8 | b[2] << 16 | (uint32_t)b[3] << 24;
	if ((w & 0xfc000000) == 0x94000000) /* BL */
		return CALLS;
	if ((w & 0xfc000000) == 0x14000000) /* B */
		return JUMPS;
	if ((w & 0xff000010) == 0x54000000 || (w & 0x7c000000) == 0x34000000) { /* B.cond; CBZ, CBNZ, TBZ, TBNZ */
		*branch = CONDITIONAL;
		return JUMPS;
	}
	/* BR, BLR and RET, with and without checking the pointer. */
	if ((w & 0xfe1ff000) != 0xd61f0000)
		return GOES_ON;
	switch (w >> 21 & 3) {
	case 0:
		*branch = INDIRECT;
		return JUMPS;
	case 1:
		*branch = INDIRECT;
		return CALLS;
	case 2:
		return RETURNS;
	}
	return GOES_ON;
}
