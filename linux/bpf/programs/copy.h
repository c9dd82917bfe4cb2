/* Copying what is on a stack. */
#pragma once

#include "scratch.h"

enum {
	MORE_RECORDS = 4,         /* that follow what the kernel copied of a deeper stack */
	LARGEST_STACK = 64 << 20, /* what is further away is another stack */
};

/* copy writes a record of the program's memory from x->addr on: as much as
 * x->limit and a record allow or, where not all of that can be read, up to the end
 * of the page. */
inlined void copy(void *ctx, struct scratch *x)
{
	u64 n = x->limit, address = x->addr;

	bounded(n);
	if (n > COPY_BYTES)
		n = COPY_BYTES;
	x->r.addr = address;
	x->r.length = n;
	if (n != 0 && bpf_probe_read_user(x->bytes, n, (const void *)address) != 0) {
		n = PAGE_BYTES - (address & (PAGE_BYTES - 1));
		bounded(n);
		if (n > PAGE_BYTES)
			return;
		x->r.length = n;
		if (n > x->limit || bpf_probe_read_user(x->bytes, n, (const void *)address) != 0)
			x->r.length = 0;
	}
	n = *(volatile u64 *)&x->r.length;
	x->addr = address + n;
	if (n > COPY_BYTES)
		return;
	send(ctx, &x->r, n);
}

/* left_of returns how much of a stack is left from sp to where it begins, 0 where
 * that is not known. It is known for a process's first thread, from the kernel, and
 * for the others, whose thread pointer is at the stack's start. */
inlined u64 left_of(struct scratch *x, u64 sp)
{
	if (x->stack_start - sp <= LARGEST_STACK) /* unsigned, so that a start below is far away */
		return x->stack_start - sp;
	if (x->thread_pointer - sp <= LARGEST_STACK)
		return x->thread_pointer - sp;
	return 0;
}

/* copy_all copies what is left of the stack in use beyond what the kernel copied, and
 * then the other one. There is one loop for all kinds of stacks: the kernel checks each
 * copy anew, and that is most of what loading the program takes. */
inlined void copy_all(void *ctx, struct scratch *x)
{
	x->addr = x->sp + x->copied;
	x->limit = x->left > x->copied ? x->left - x->copied : 0;
	for (u64 i = 0; i < MORE_RECORDS && x->limit != 0; i++) {
		copy(ctx, x);
		x->limit -= x->limit < COPY_BYTES ? x->limit : COPY_BYTES;
	}
	if (!x->other)
		return;
	x->addr = x->other_sp;
	x->limit = x->other_left;
	copy(ctx, x);
}
