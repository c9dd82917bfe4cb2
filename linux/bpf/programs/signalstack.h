/* A thread that handles a signal on a stack of its own. */
#pragma once

#include "copy.h"

/* How many bytes the kernel's signal frame takes at most (AT_MINSIGSTKSZ), and how many
 * where the thread did not ask for the registers that the kernel saves on request only. */
volatile const u32 signal_frame_bytes;
volatile const u32 signal_frame_usual;

enum {
	FRAME_BEFORE = 64,   /* from where the frame is looked for, before its furthest place */
	FRAME_LOOKED = 1024, /* and how far */
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

/* frame_of finds the stack pointer in a signal frame of a size at the end of the signal
 * stack, 0 where there is none. How far from the end the frame is depends on the
 * processor's registers and on how the end is aligned, so it is looked for. */
inlined u64 frame_of(struct scratch *x, u32 bytes)
{
	u64 low = x->signal_stack, size = x->signal_stack_size;
	u64 from = ((low + size) & ~15ull) - ((bytes + 15) & ~15u) - FRAME_BEFORE;

	if (bpf_probe_read_user(x->bytes, FRAME_LOOKED, (const void *)from) != 0)
		return 0;
	return interrupted(x->words, low, size);
}

/* signal_stack looks whether the thread runs on its signal stack. If so, the
 * outermost signal frame at the stack's end holds the interrupted registers;
 * what they point to counts as the stack from then on, none of it copied yet. */
inlined void signal_stack(struct scratch *x)
{
	u64 low = x->signal_stack, size = x->signal_stack_size, sp;

	if (size == 0 || x->sp - low >= size) /* unsigned: the stack pointer is not on it */
		return;
	sp = frame_of(x, signal_frame_usual);
	if (sp == 0 && signal_frame_usual != signal_frame_bytes)
		sp = frame_of(x, signal_frame_bytes);
	if (sp == 0)
		return;
	x->sp = sp;
	x->copied = 0;
}
