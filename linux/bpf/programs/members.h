/* The processes that belong to a collection: those that it began with, and all that they
 * start. Who asks at an event at which every process of the machine comes by looks here. */
#pragma once

#include "kernel.h"

enum member_state {
	MEMBER_ARMED = 1, /* it belongs from when it begins another program */
	MEMBER_BELONGS = 2,
};
FOR_GO(member_state);

enum {
	MEMBERS = 1 << 14,
};

struct {
	__uint(type, BPF_MAP_TYPE_HASH);
	__type(key, u32);   /* process */
	__type(value, u32); /* an enum member_state */
	__uint(max_entries, MEMBERS);
} members SEC(".maps");

/* Processes for which there was no room. */
struct {
	__uint(type, BPF_MAP_TYPE_ARRAY);
	__type(key, u32);
	__type(value, u64);
	__uint(max_entries, 1);
} members_missed SEC(".maps");

/* is_member reports whether the present process belongs. */
inlined bool is_member(void)
{
	u32 process = bpf_get_current_pid_tgid() >> 32, *state;

	state = bpf_map_lookup_elem(&members, &process);
	return state && *state == MEMBER_BELONGS;
}

/* member_forks has a new process belong where its parent, which is the present one, does. */
inlined void member_forks(bool belongs, u32 process)
{
	u32 state = MEMBER_BELONGS, zero = 0;
	u64 *missed;

	if (!belongs) {
		bpf_map_delete_elem(&members, &process); /* of one before it with this number */
		return;
	}
	if (bpf_map_update_elem(&members, &process, &state, BPF_ANY) == 0)
		return;
	missed = bpf_map_lookup_elem(&members_missed, &zero);
	if (missed)
		__sync_fetch_and_add(missed, 1);
}

/* member_begins has the present process, which begins another program, belong from here on
 * if that was waited for. */
inlined bool member_begins(void)
{
	u32 process = bpf_get_current_pid_tgid() >> 32, *state;

	state = bpf_map_lookup_elem(&members, &process);
	if (!state || *state != MEMBER_ARMED)
		return false;
	*state = MEMBER_BELONGS;
	return true;
}

/* member_ends lets go of a process whose last thread ends. */
inlined void member_ends(struct task_struct *task, u32 process)
{
	struct signal_struct *shared;
	s32 live;

	if (READ(shared, task->signal) == 0 && READ(live, shared->live) == 0 && live == 0)
		bpf_map_delete_elem(&members, &process);
}
