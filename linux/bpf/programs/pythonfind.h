/* Whether a process runs CPython. This is the end of the first program, and all
 * of CPython that other processes pay for. */
#pragma once

#include "pythonscratch.h"

/* python_places_of finds what was noted for the present process, or its parent:
 * a child has what its parent has until it begins another program. */
inlined struct python_places *python_places_of(struct task_struct *task, u32 process, u64 start)
{
	struct python_places *p = bpf_map_lookup_elem(&python_processes, &process);
	struct task_struct *parent;

	if (p) {
		if (p->code_start == 0)
			p->code_start = start;
		if (p->code_start == start)
			return p;
	}
	parent = task->real_parent;
	if (!parent)
		return 0;
	process = parent->tgid;
	p = bpf_map_lookup_elem(&python_processes, &process);
	return p && p->code_start == start ? p : 0;
}

inlined void python_find(void *ctx)
{
	struct task_struct *task = bpf_get_current_task_btf();
	struct mm_struct *memory = task->mm;
	struct python_places *p;
	struct python_scratch *s;
	u32 process = task->tgid, zero = 0;
	u64 start;

	if (!memory)
		return;
	start = memory->start_code;
	p = python_places_of(task, process, start);
	if (!p)
		return;
	s = bpf_map_lookup_elem(&python_scratch, &zero);
	if (!s)
		return;
	s->places = *p;
	s->found = s->state = s->next = s->cframe = s->pending = s->done = s->thread = s->interpreter = s->rounds = 0;
	s->key = process | start << 20; /* the lowest bits are of the page, the highest the same for all */
	s->start = start;
	s->thread_pointer = task->thread.fsbase;
	bpf_tail_call(ctx, &python_calls, PYTHON_STATES);
}
