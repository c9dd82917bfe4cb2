/* Whether a process runs CPython. This is the end of the first program, and all
 * of CPython that other processes pay for. */
#pragma once

#include "pythonscratch.h"
#include "scratch.h"

/* python_places_of finds what was noted for the present process, or its parent:
 * a child has what its parent has until it begins another program. */
inlined struct python_places *python_places_of(u32 process, u64 start)
{
	struct python_places *p = bpf_map_lookup_elem(&python_processes, &process);
	struct task_struct *parent;

	if (p) {
		if (p->code_start == 0)
			p->code_start = start;
		if (p->code_start == start)
			return p;
	}
	if (READ(parent, ((struct task_struct *)bpf_get_current_task())->real_parent) != 0 || READ(process, parent->tgid) != 0)
		return 0;
	p = bpf_map_lookup_elem(&python_processes, &process);
	return p && p->code_start == start ? p : 0;
}

inlined void python_find(void *ctx, struct scratch *x)
{
	struct python_places *p;
	struct python_scratch *s;
	u32 process = bpf_get_current_pid_tgid() >> 32, slot = x->r.slot;
	u64 start = x->code_start;

	p = python_places_of(process, start);
	if (!p)
		return;
	s = bpf_map_lookup_elem(&python_scratch, &slot);
	if (!s)
		return;
	s->places = *p;
	s->r.slot = slot;
	s->found = s->state = s->next = s->cframe = s->pending = s->done = s->thread = s->interpreter = s->rounds = 0;
	s->key = process | start << 20; /* the lowest bits are of the page, the highest the same for all */
	s->start = start;
	s->thread_pointer = x->thread_pointer;
	bpf_tail_call(ctx, &python_calls, PYTHON_STATES);
}
