/* Copying what is on a stack. */
#pragma once

#include "scratch.h"

enum {
	MORE_RECORDS = 16,        /* that follow what the kernel copied of a deeper stack, */
	OUTER_RECORDS = 6,        /* and so many of them are of its outer end, where it is deeper still */
	HOLE_PAGES = 64,          /* that are skipped at a time */
	THERE_PAGES = 16,         /* that are looked for, at most as many as the kernel copies itself */
	LARGEST_STACK = 64 << 20, /* what is further away is another stack */
};

/* readable reports whether a byte of the program's memory can be read. */
inlined bool readable(u64 address)
{
	u8 byte;

	return bpf_probe_read_user(&byte, sizeof(byte), (const void *)address) == 0;
}

/* A frame with a large buffer may have pages that the program never touched. They are not
 * there, and nothing can be read of them, but the stack goes on behind them. What looks for
 * such pages is not inlined: the kernel checks a function with a name of its own once, and
 * not anew at each place where it is called. */

/* hole_length returns how much from an address on, up to a limit, is not there. */
__attribute__((noinline)) u64 hole_length(u64 address, u64 limit)
{
	u64 n = 0;

	for (u64 i = 0; i < HOLE_PAGES && n < limit && !readable(address + n); i++)
		n += PAGE_BYTES - ((address + n) & (PAGE_BYTES - 1));
	return n < limit ? n : limit;
}

/* there_length returns how much from an address on, up to a limit, is there, in pages. */
__attribute__((noinline)) u64 there_length(u64 address, u64 limit)
{
	u64 n = PAGE_BYTES - (address & (PAGE_BYTES - 1));

	if (!readable(address))
		return 0; /* a function has just made room on it and not used that yet */
	for (u64 i = 1; i < THERE_PAGES && n < limit && readable(address + n); i++)
		n += PAGE_BYTES;
	return n < limit ? n : limit;
}

/* copy writes a record of the program's memory from x->addr on: as much as x->limit and
 * a record allow or, where a page of that is not there, up to that. */
inlined void copy(void *ctx, struct scratch *x)
{
	u64 n = x->limit, address = x->addr;

	bounded(n);
	if (n > COPY_BYTES)
		n = COPY_BYTES;
	x->r.addr = address;
	x->r.length = n;
	if (n != 0 && bpf_probe_read_user(x->bytes, n, (const void *)address) != 0) {
		n = there_length(address, n);
		bounded(n);
		if (n > COPY_BYTES)
			return;
		x->r.length = n;
		if (bpf_probe_read_user(x->bytes, n, (const void *)address) != 0)
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
	u64 from;

	/* The kernel's own copy ends at the first page that is not there. */
	x->copied = there_length(x->sp, x->copied);
	x->addr = x->sp + x->copied;
	x->limit = x->left > x->copied ? x->left - x->copied : 0;
	for (u64 i = 0; i < MORE_RECORDS && x->limit != 0; i++) {
		if (i == MORE_RECORDS - OUTER_RECORDS && x->limit > OUTER_RECORDS * COPY_BYTES) {
			/* Between the two may be a frame with very large variables, as one of the
			 * first of a thread often has; the walk then steps over what is missing. */
			x->addr += x->limit - OUTER_RECORDS * COPY_BYTES;
			x->limit = OUTER_RECORDS * COPY_BYTES;
		}
		from = hole_length(x->addr, x->limit);
		x->addr += from;
		x->limit -= from;
		if (x->limit == 0)
			break;
		from = x->addr;
		copy(ctx, x);
		from = x->addr - from; /* 0: the hole goes on */
		x->limit -= x->limit < from ? x->limit : from;
	}
	if (!x->other)
		return;
	x->addr = x->other_sp;
	x->limit = x->other_left;
	copy(ctx, x);
}
