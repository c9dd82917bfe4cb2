/* Static probes that a program has in pairs: one where something begins, another where it ends. The two
 * stand in different places, of different functions even, so that how deep the stack is does not say
 * which belong together; that the last one that began ends first does. One that begins no deeper than the
 * one before it has left that without its end, as by an error. */
#pragma once

#include "spans.h"

enum { PAIR_LEVELS = 64 }; /* that are in each other */

/* How many of a pair go on in a thread. */
struct {
	__uint(type, BPF_MAP_TYPE_LRU_HASH);
	__type(key, struct span_key); /* of depth 0 */
	__type(value, u64);
	__uint(max_entries, SPANS);
} pair_levels SEC(".maps");

inlined void pair_of(u64 cookie, struct span_key *k)
{
	k->of = (u32)bpf_get_current_pid_tgid();
	k->pid = bpf_get_current_pid_tgid() >> 32;
	k->function = span_event(cookie) << 16 | span_function(cookie);
}

SEC("uprobe.multi")
int pair_begins(struct pt_regs *registers)
{
	struct tally_control *c = control_on();
	u64 cookie = bpf_get_attach_cookie(registers), level = 0, *levels;
	struct span_key k = {}, top = {};
	struct span_open x = {}, *before;
	struct tally *t;

	if (!c || !counts())
		return 0;
	pair_of(cookie, &k);
	levels = bpf_map_lookup_elem(&pair_levels, &k);
	if (levels)
		level = *levels;
	top = k;
	for (int i = 0; i < 4 && level != 0; i++) {
		top.depth = level;
		before = bpf_map_lookup_elem(&spans, &top);
		if (!before || registers->sp < before->sp)
			break; /* in it, as far as is known */
		/* It stays one without an end, out of the way. */
		x = *before;
		bpf_map_delete_elem(&spans, &top);
		top.depth = x.o.begin;
		bpf_map_update_elem(&spans, &top, &x, BPF_ANY);
		level--;
	}
	/* Its end is waited for even if there is no room for it, or that would be taken for another one's. */
	level++;
	bpf_map_update_elem(&pair_levels, &k, &level, BPF_ANY);
	if (level > PAIR_LEVELS) {
		no_room(c, span_event(cookie));
		return 0;
	}
	__builtin_memset(&x, 0, sizeof(x));
	at_probe(registers, &x.o.key);
	x.o.key.event = span_event(cookie);
	x.o.key.sp = x.sp = registers->sp;
	x.o.key.what = span_function(cookie);
	t = class_of(c, &x.o.key);
	if (!t)
		return 0;
	top.depth = level;
	x.o.begin = bpf_ktime_get_ns();
	__sync_fetch_and_add(&c->spans_open, 1);
	if (bpf_map_update_elem(&spans, &top, &x, BPF_ANY) != 0)
		__sync_fetch_and_add(&c->unwritten[span_event(cookie)], 1);
	return count_deep(registers, &x.o.key, t, 0, 0);
}

SEC("uprobe.multi")
int pair_ends(struct pt_regs *registers)
{
	struct tally_control *c = control_on();
	u64 cookie = bpf_get_attach_cookie(registers), now = bpf_ktime_get_ns(), *levels;
	struct span_key k = {};
	struct span_open *x;

	if (!c || !counts())
		return 0;
	pair_of(cookie, &k);
	levels = bpf_map_lookup_elem(&pair_levels, &k);
	if (!levels || *levels == 0)
		return 0; /* it began before counting did */
	k.depth = *levels;
	*levels -= 1;
	x = bpf_map_lookup_elem(&spans, &k);
	if (!x) {
		if (k.depth <= PAIR_LEVELS) /* else that was counted when it began */
			__sync_fetch_and_add(&c->unwritten[span_event(cookie)], 1);
		return 0;
	}
	__sync_fetch_and_add(&c->spans_open, -1);
	passed(registers, c, &x->o, 0, now, 0, 0, false, 0);
	settle(&x->o, now - x->o.begin, 0);
	bpf_map_delete_elem(&spans, &k);
	return 0;
}
