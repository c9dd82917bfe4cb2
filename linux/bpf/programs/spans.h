/* Calls of chosen functions, from their beginning to their end. A probe stands behind the check of the
 * stack's size that a function of Go begins with, since that is run once more when the stack has grown;
 * others stand at all instructions by which it returns. A call is known by how deep it is on its stack:
 * no two that go on at once are equally deep, and who left without returning, by a panic, an exception
 * or longjmp, makes room for the next one there. */
#pragma once

#include "goroutines.h"

struct span_key {
	u64 of; /* goroutine, or thread */
	u64 depth;
	u32 pid;
	u32 function;
};

/* One that goes on. */
struct span_open {
	struct tally_open o;
	u64 goroutine; /* 0: none */
	u64 sp;        /* of static probes, where the stack was */
};

enum {
	SPANS = 1 << 16,
};

struct {
	__uint(type, BPF_MAP_TYPE_LRU_HASH);
	__type(key, struct span_key);
	__type(value, struct span_open);
	__uint(max_entries, SPANS);
} spans SEC(".maps");

/* A probe's number: the event, the function's number among its own, and of Go where a goroutine has
 * its number. */
inlined u32 span_event(u64 cookie) { return cookie & (TALLY_EVENTS - 1); }
inlined u32 span_function(u64 cookie) { return cookie >> 16 & 0xffff; }
inlined u64 span_number_at(u64 cookie) { return cookie >> 32 & 0xffff; }

/* span_of fills in which call it is that the present thread is in. */
inlined void span_of(struct pt_regs *registers, u64 cookie, struct span_key *k, u64 *goroutine)
{
	struct routine_key g = {};
	u64 at = span_number_at(cookie);

	k->pid = bpf_get_current_pid_tgid() >> 32;
	k->function = span_event(cookie) << 16 | span_function(cookie);
	if (at != 0 && routine_of(&g, registers->r14, at)) {
		k->of = *goroutine = g.goroutine;
		k->depth = deep(registers->r14, registers->sp);
		return;
	}
	k->of = (u32)bpf_get_current_pid_tgid();
	k->depth = registers->sp;
}

SEC("uprobe.multi")
int span_begins(struct pt_regs *registers)
{
	struct tally_control *c = control_on();
	u64 cookie = bpf_get_attach_cookie(registers);
	struct span_key k = {};
	struct span_open x = {};
	struct tally *t;

	if (!c || !counts())
		return 0;
	span_of(registers, cookie, &k, &x.goroutine);
	at_probe(registers, &x.o.key);
	x.o.key.event = span_event(cookie);
	x.o.key.sp = k.depth;
	x.o.key.what = span_function(cookie);
	read_word(&x.o.key.caller, registers->sp);
	t = class_of(c, &x.o.key);
	if (!t)
		return 0;
	x.o.begin = bpf_ktime_get_ns();
	if (!bpf_map_lookup_elem(&spans, &k)) /* else one that was left without returning makes room */
		__sync_fetch_and_add(&c->spans_open, 1);
	if (bpf_map_update_elem(&spans, &k, &x, BPF_ANY) != 0)
		__sync_fetch_and_add(&c->unwritten[x.o.key.event & (TALLY_EVENTS - 1)], 1);
	return count_deep(registers, &x.o.key, t, 0, x.goroutine ? k.depth : 0);
}

SEC("uprobe.multi")
int span_ends(struct pt_regs *registers)
{
	struct tally_control *c = control_on();
	u64 cookie = bpf_get_attach_cookie(registers), goroutine = 0, now = bpf_ktime_get_ns();
	struct span_key k = {};
	struct span_open *x;

	if (!c || !counts())
		return 0;
	span_of(registers, cookie, &k, &goroutine);
	x = bpf_map_lookup_elem(&spans, &k);
	if (!x) {
		/* It began before counting did, or others have taken its room since. */
		if (c->spans_open >= SPANS)
			__sync_fetch_and_add(&c->unwritten[span_event(cookie)], 1);
		return 0;
	}
	__sync_fetch_and_add(&c->spans_open, -1);
	passed(registers, c, &x->o, 0, now, 0, 0, false, goroutine);
	settle(&x->o, now - x->o.begin, 0);
	bpf_map_delete_elem(&spans, &k);
	return 0;
}
