/* A thread that handles a signal on a stack of its own. */
#pragma once

#include "copy.h"

/* How many bytes the kernel's signal frame takes at most (AT_MINSIGSTKSZ). */
volatile const u32 signal_frame_bytes;

enum {
	FRAME_AROUND = 128,  /* what alignment adds to it at most */
	FRAME_LOOKED = 1024, /* how much is looked at in one go */
	FRAME_STRIDE = FRAME_LOOKED - 192, /* to the next, so that none is cut in two */
	FRAME_STACK_SIZE = 16 / 8,                /* from the signal stack's address in struct ucontext (uc_stack) */
	FRAME_STACK_POINTER = (-16 + 40 + 15 * 8) / 8, /* to the interrupted stack pointer, in words */
};

/* interrupted finds the stack pointer in a signal frame, 0 where there is none: the
 * frame holds the signal stack's own bounds. */
inlined u64 interrupted(const u64 *words, u64 low, u64 size)
{
	u64 sp;

	for (u64 i = 0; i + FRAME_STACK_POINTER < FRAME_LOOKED / 8; i += 2) {
		if (words[i] != low || words[i + FRAME_STACK_SIZE] != size)
			continue;
		sp = words[i + FRAME_STACK_POINTER];
		bounded(sp); /* to be read here, or the kernel looks at the rest once for each place */
		return sp;
	}
	return 0;
}

/* signal_stack looks whether the thread runs on its signal stack. If so, the
 * outermost signal frame at the stack's end holds the interrupted registers;
 * what they point to counts as the stack from then on, none of it copied yet. How far
 * from the end the frame is depends on the registers that the thread uses, of which
 * some processors save 8 KiB for those only that asked for them, and on how the end is
 * aligned, so it is looked for from the end on. */
inlined void signal_stack(struct scratch *x)
{
	u64 low = x->signal_stack, size = x->signal_stack_size, from, sp = 0;

	if (size == 0 || x->sp - low >= size) /* unsigned: the stack pointer is not on it */
		return;
	from = ((low + size) & ~15ull) - FRAME_LOOKED;
	for (u32 at = 0; at < signal_frame_bytes + FRAME_AROUND; at += FRAME_STRIDE) {
		if (bpf_probe_read_user(x->bytes, FRAME_LOOKED, (const void *)(from - at)) != 0)
			return;
		sp = interrupted(x->words, low, size);
		if (sp != 0)
			break;
	}
	if (sp == 0)
		return;
	x->sp = sp;
	x->copied = 0;
}
