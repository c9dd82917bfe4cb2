/* What goroutines wait for, who ends that, and which threads carry them. The kernel knows threads
 * alone, and a thread whose goroutine waits runs another one. So probes stand in the runtime: where a
 * goroutine leaves its thread to wait (gopark), where another one lets it go on (ready), where a thread
 * takes one up (execute), and where one ends (goexit1). One record tells of a wait, and of the time
 * before it in which a thread carried the goroutine. */
#pragma once

#include "tally.h"

struct routine_key {
	u64 goroutine; /* its number */
	u32 pid;
	u32 nothing;
};

/* A goroutine, since it was first met. */
struct routine {
	struct tally_open o; /* what it waits for */
	struct tally_key waker;
	u64 waker_goroutine; /* 0: none, the runtime itself */
	u64 carried;         /* since when a thread carries it; 0: none ever did */
	u64 left;            /* since when that thread carries another one; 0: it does not */
	u32 carrier;
	u32 nothing;
};

/* A wait that has ended; its words are those of an interval_record. Without a wait begin is 0, and a
 * goroutine was carried alone. */
struct routine_record {
	struct record_header r;
	struct tally_key key;
	struct tally_key waker;
	u64 goroutine;
	u64 waker_goroutine;
	u64 carried;
	u64 left;
	u32 carrier;
	u32 nothing;
};
const struct routine_record go_routine_record __attribute__((unused)) = {}; /* so that Go has its type */

enum {
	ROUTINES = 1 << 16,
	LEFT_FRAME = 40, /* where a goroutine left its stack, behind the stack pointer */
	PATH_FRAMES = 8, /* of a goroutine's stack that tell classes apart */
	LABELS_READ = 8, /* of a goroutine, among which is the one that is looked for */
	SPAN_NAME_BYTES = 96,
	SPAN_LABEL = 0x6e617073, /* "span" */
};

/* Those that end are taken out; what of others has no room is counted. */
struct {
	__uint(type, BPF_MAP_TYPE_HASH);
	__type(key, struct routine_key);
	__type(value, struct routine);
	__uint(max_entries, ROUTINES);
} routines SEC(".maps");

/* Which one a thread carries. */
struct {
	__uint(type, BPF_MAP_TYPE_LRU_HASH);
	__type(key, u32); /* thread */
	__type(value, struct routine_key);
	__uint(max_entries, ROUTINES);
} carriers SEC(".maps");

volatile const u32 parks_number; /* of the event of goroutines that wait */
volatile const u32 with_labels;  /* the program gives its goroutines labels */

/* Where the runtime of the probed file has what: the bytes of a probe's number, from the lowest on. */
inlined u64 number_at(u64 cookie) { return cookie & 0xffff; }
inlined u64 thread_at(u64 cookie) { return cookie >> 16 & 0xffff; }
inlined u64 current_at(u64 cookie) { return cookie >> 32 & 0xffff; }
inlined u64 left_at(u64 cookie) { return cookie >> 48; }

/* routine_of fills in the key of a goroutine by its record; false where that cannot be read. */
inlined bool routine_of(struct routine_key *k, u64 g, u64 at)
{
	k->pid = bpf_get_current_pid_tgid() >> 32;
	return g != 0 && read_word(&k->goroutine, g + at) == 0 && k->goroutine != 0;
}

/* call_path mixes where the calls of a stack return to into a hash, along its frame pointers. */
inlined u32 call_path(u64 frame, u32 hash)
{
	u64 words[2];

	for (int i = 0; i < PATH_FRAMES; i++) {
		if (bpf_probe_read_user(words, sizeof(words), (const void *)frame) != 0)
			break;
		hash = mixed(hash, words[1]);
		if (words[0] <= frame)
			break;
		frame = words[0];
	}
	return hash;
}

/* deep is how far a stack pointer is from the end of a goroutine's stack, which stays what it is when
 * the stack is moved. */
inlined u64 deep(u64 g, u64 sp)
{
	u64 high;

	return read_word(&high, g + 8) == 0 ? high - sp : sp;
}

/* at_probe fills in where the present thread is. */
inlined void at_probe(struct pt_regs *registers, struct tally_key *k)
{
	u64 id = bpf_get_current_pid_tgid();

	k->pid = id >> 32;
	k->tid = id;
	k->ip = registers->ip;
}

/* tell_routine writes down what came of a goroutine since a thread took it up. */
inlined long tell_routine(void *ctx, struct routine_key *k, struct routine *g, u64 end)
{
	struct routine_record x = {.r = {.kind = KIND_ROUTINE, .length = sizeof(x) - sizeof(x.r)}, .key = g->o.key, .waker = g->waker};

	x.r.addr = g->o.begin;
	x.r.low = end;
	x.r.high = g->o.woken;
	x.r.pc = bpf_get_smp_processor_id();
	x.key.pid = k->pid;
	x.key.event = parks_number;
	x.goroutine = k->goroutine;
	x.waker_goroutine = g->waker_goroutine;
	x.carried = g->carried;
	x.left = g->left;
	x.carrier = g->carrier;
	return send(ctx, &x, sizeof(x) - sizeof(x.r));
}

/* A goroutine waits. It gives up its thread in the functions that this one calls. */
SEC("uprobe.multi")
int routine_parks(struct pt_regs *registers)
{
	struct tally_control *c = control_on();
	u64 at = number_at(bpf_get_attach_cookie(registers)), self = registers->r14;
	struct routine_key k = {};
	struct routine none = {}, *g;
	struct tally *t;

	if (!c || !counts() || !routine_of(&k, self, at))
		return 0;
	g = bpf_map_lookup_elem(&routines, &k);
	if (!g) {
		none.carried = c->origin; /* it ran when counting began */
		none.carrier = bpf_get_current_pid_tgid();
		bpf_map_update_elem(&routines, &k, &none, BPF_ANY);
		g = bpf_map_lookup_elem(&routines, &k);
		if (!g) {
			no_room(c, parks_number);
			return 0;
		}
	}
	at_probe(registers, &none.o.key);
	none.o.key.event = parks_number;
	none.o.key.sp = deep(self, registers->sp);
	read_word(&none.o.key.caller, registers->sp);
	none.o.key.what = call_path(registers->bp, HASH_BEGIN);
	t = class_of(c, &none.o.key);
	if (!t)
		return 0;
	none.o.begin = bpf_ktime_get_ns();
	g->o = none.o;
	g->waker.flags = TALLY_NOBODY;
	g->waker_goroutine = 0;
	return count_deep(registers, &none.o.key, t, 0, none.o.key.sp);
}

/* One that waits may go on. This runs on the system's stack: who called it is the goroutine that the
 * thread carries, or the scheduler for a timer or the network. */
SEC("uprobe.multi")
int routine_ready(struct pt_regs *registers)
{
	struct tally_control *c = control_on();
	u64 cookie = bpf_get_attach_cookie(registers), thread = 0, current = 0, sp = 0, frame = 0;
	struct routine_key k = {}, self = {};
	struct tally_key waker = {.event = event_number};
	struct routine *g;
	struct tally *t;

	if (!c || !routine_of(&k, registers->ax, number_at(cookie)))
		return 0;
	g = bpf_map_lookup_elem(&routines, &k);
	if (!g || g->o.begin == 0 || g->o.woken != 0)
		return 0;
	g->o.woken = bpf_ktime_get_ns();
	if (read_word(&thread, registers->r14 + thread_at(cookie)) != 0 || read_word(&current, thread + current_at(cookie)) != 0 || !routine_of(&self, current, number_at(cookie)))
		return 0;
	at_probe(registers, &waker);
	read_word(&sp, current + left_at(cookie));
	read_word(&frame, current + left_at(cookie) + LEFT_FRAME);
	waker.sp = deep(current, sp);
	waker.what = call_path(frame, HASH_BEGIN);
	t = class_of(c, &waker);
	g->waker = waker;
	g->waker_goroutine = self.goroutine;
	return t ? count_deep(registers, &waker, t, 0, waker.sp) : 0;
}

/* leaves ends that the present thread carries another goroutine than k. */
inlined void leaves(struct routine_key *k, u32 tid, u64 now)
{
	struct routine_key before, *at = bpf_map_lookup_elem(&carriers, &tid);
	struct routine *g;

	if (at && at->goroutine == k->goroutine && at->pid == k->pid)
		return;
	if (at) {
		before = *at;
		g = bpf_map_lookup_elem(&routines, &before);
		if (g && g->carrier == tid && g->o.begin == 0 && g->left == 0)
			g->left = now;
	}
	bpf_map_update_elem(&carriers, &tid, k, BPF_ANY);
}

/* A thread takes a goroutine up. */
SEC("uprobe.multi")
int routine_runs(struct pt_regs *registers)
{
	struct tally_control *c = control_on();
	struct routine_key k = {};
	struct routine none = {}, *g;
	struct interval_pace *p;
	u32 tid = bpf_get_current_pid_tgid(), zero = 0;
	u64 now = bpf_ktime_get_ns();
	struct tally *t;
	bool thinned;

	if (!c || !counts() || !routine_of(&k, registers->ax, number_at(bpf_get_attach_cookie(registers))))
		return 0;
	leaves(&k, tid, now);
	g = bpf_map_lookup_elem(&routines, &k);
	p = bpf_map_lookup_elem(&interval_pace, &zero);
	if (!g || !p) {
		none.carried = now;
		none.carrier = tid;
		bpf_map_update_elem(&routines, &k, &none, BPF_ANY);
		return 0;
	}
	if (g->o.begin == 0 && g->carrier == tid && g->left == 0)
		return 0; /* it was interrupted, and goes on here */
	if (g->o.begin != 0) {
		if (g->o.woken == 0 || g->o.woken > now)
			g->o.woken = now;
		t = bpf_map_lookup_elem(&classes, &g->o.key);
		if (t) {
			t->sum += g->o.woken - g->o.begin;
			t->run += now - g->o.woken;
		}
	}
	if (now - p->began > PACE_NS) {
		p->began = now;
		p->written = 0;
	}
	thinned = p->written >= INTERVALS_SHOWN && g->carrier == tid && g->left == 0 && now - g->o.begin < LONG_NS;
	if (!with_intervals || thinned) {
		if (with_intervals)
			__sync_fetch_and_add(&c->thinned[parks_number & (TALLY_EVENTS - 1)], 1);
		g->o.begin = g->o.woken = 0;
		return 0; /* it is as if it had gone on */
	}
	p->written++;
	if (tell_routine(registers, &k, g, now) != 0)
		__sync_fetch_and_add(&c->unwritten[parks_number & (TALLY_EVENTS - 1)], 1);
	g->o.begin = g->o.woken = g->left = 0;
	g->carried = now;
	g->carrier = tid;
	return 0;
}

/* The label of a goroutine that names a part of its work. Its header's words: addr is when it has it, low
 * the goroutine, high how long the name is in the program, 0 where it has none from then on, sp the process,
 * pc the thread. What follows is the name. */
struct label_record {
	struct record_header r;
	u8 text[SPAN_NAME_BYTES];
};

inlined void label_begun(struct label_record *x, u64 goroutine)
{
	u64 id = bpf_get_current_pid_tgid();

	__builtin_memset(&x->r, 0, sizeof(x->r));
	x->r.kind = KIND_LABEL;
	x->r.addr = bpf_ktime_get_ns();
	x->r.low = goroutine;
	x->r.sp = id >> 32;
	x->r.pc = (u32)id;
}

/* A goroutine is given other labels, a list of names and texts. That which is named "span" is what it does. */
SEC("uprobe.multi")
int routine_labelled(struct pt_regs *registers)
{
	struct tally_control *c = control_on();
	struct routine_key k = {};
	struct label_record x;
	u64 list[2], label[4], n = 0;
	u32 name;

	if (!c || !counts() || !routine_of(&k, registers->r14, number_at(bpf_get_attach_cookie(registers))))
		return 0;
	label_begun(&x, k.goroutine);
	if (registers->ax != 0 && bpf_probe_read_user(list, sizeof(list), (const void *)registers->ax) == 0) {
		for (int i = 0; i < LABELS_READ && i < list[1]; i++) {
			if (bpf_probe_read_user(label, sizeof(label), (const void *)(list[0] + i * sizeof(label))) != 0)
				break;
			if (label[1] != sizeof(name) || bpf_probe_read_user(&name, sizeof(name), (const void *)label[0]) != 0 || name != SPAN_LABEL)
				continue;
			n = label[3];
			x.r.high = n;
			bounded(n);
			if (n > SPAN_NAME_BYTES)
				n = SPAN_NAME_BYTES;
			if (bpf_probe_read_user(x.text, n, (const void *)label[2]) != 0)
				n = 0;
			break;
		}
	}
	x.r.length = n;
	bounded(n);
	if (n > SPAN_NAME_BYTES)
		return 0;
	if (send(registers, &x, n) != 0)
		__sync_fetch_and_add(&c->unwritten[parks_number & (TALLY_EVENTS - 1)], 1);
	return 0;
}

/* A goroutine ends. */
SEC("uprobe.multi")
int routine_ends(struct pt_regs *registers)
{
	struct tally_control *c = control_on();
	struct routine_key k = {};
	struct label_record x;
	struct routine *g;

	if (!c || !counts() || !routine_of(&k, registers->r14, number_at(bpf_get_attach_cookie(registers))))
		return 0;
	if (with_labels) {
		label_begun(&x, k.goroutine);
		send(registers, &x, 0);
	}
	g = bpf_map_lookup_elem(&routines, &k);
	if (!g)
		return 0;
	g->o.begin = g->o.woken = 0;
	if (with_intervals && tell_routine(registers, &k, g, bpf_ktime_get_ns()) != 0)
		__sync_fetch_and_add(&c->unwritten[parks_number & (TALLY_EVENTS - 1)], 1);
	bpf_map_delete_elem(&routines, &k);
	return 0;
}
