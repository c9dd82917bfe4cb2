/* Copying what is on a stack. */
#pragma once

#include "scratch.h"

enum {
	MORE_RECORDS = 4,         /* that follow what the kernel copied of a deeper stack */
	LARGEST_STACK = 64 << 20, /* what is further away is another stack */
};

/* copy writes a record of the program's memory from x->addr on: as much as
 * limit says or, where not all of that can be read, up to the end of the page. */
inlined void copy(struct sample *x, u64 limit)
{
	u64 n = limit, address = x->addr;

	x->s->r.addr = address;
	bounded(n);
	if (n > COPY_BYTES)
		return;
	if (n != 0 && bpf_probe_read_user(x->s->bytes, n, (const void *)address) != 0) {
		n = PAGE_BYTES - (address & (PAGE_BYTES - 1));
		bounded(n);
		if (n > PAGE_BYTES)
			return;
		if (n > limit || bpf_probe_read_user(x->s->bytes, n, (const void *)address) != 0)
			n = 0;
	}
	x->s->r.length = n;
	x->addr = address + n;
	bounded(n);
	if (n > COPY_BYTES)
		return;
	send(x->ctx, x->s, n);
}

/* left_of says how much of the stack is left from x->sp to where it begins.
 * That is known for a process's first thread, from the kernel, and for the
 * others, whose thread pointer is at the stack's begin. */
inlined bool left_of(struct sample *x, u64 *left)
{
	struct mm_struct *memory = x->task->mm;

	if (!memory)
		return false;
	*left = memory->start_stack - x->sp; /* unsigned, so that a begin below is far away */
	if (*left <= LARGEST_STACK)
		return true;
	*left = x->task->thread.fsbase - x->sp;
	return *left <= LARGEST_STACK;
}

/* copy_rest copies what is left of a stack from where the copy so far ends. */
inlined void copy_rest(struct sample *x, u64 left)
{
	s64 rest = left - x->copied;

	x->addr = x->sp + x->copied;
	for (int i = 0; i < MORE_RECORDS; i++) {
		if (rest <= 0)
			return;
		copy(x, rest < COPY_BYTES ? rest : COPY_BYTES);
		rest -= COPY_BYTES;
	}
}

/* copy_deep copies what is beyond the kernel's copy where the stack is deeper, and
 * something in any case where the kernel copied another stack. */
inlined void copy_deep(struct sample *x)
{
	u64 left;

	if (!left_of(x, &left)) {
		if (x->copied != 0)
			return;
		left = COPY_BYTES;
	}
	x->s->r.kind = KIND_STACK;
	copy_rest(x, left);
}
