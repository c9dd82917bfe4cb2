/* Threads of the Go runtime, which changes between goroutines' stacks and the
 * system's. What is on the one that is not in use can only be read at the very
 * moment of the sample. */
#pragma once

#include "copy.h"
#include "golabels.h"

/* Where the runtime of a process has what, in bytes from the start of its
 * records; the thread's own record is found at tls from the thread pointer. */
struct go_places {
	s64 tls;
	u64 m;
	u64 current;
	u64 sched;
	u64 cgo;      /* 1: C code may call back */
	u64 labels;   /* 0: the program gives none */
	u64 clock_pc; /* 0: not known */
	u64 clock_sp;
};

struct {
	__uint(type, BPF_MAP_TYPE_LRU_HASH);
	__type(key, u32); /* process */
	__type(value, struct go_places);
	__uint(max_entries, 4096);
} go_processes SEC(".maps");

enum {
	SCHED_PC = 8, /* in the scheduler's record of where a goroutine left: its stack pointer first */
	SCHED_BP = 40,
	CLOCK_FRAME = 48, /* what runtime.nanotime1 has of its own, with room */
};

/* go_stack looks whether the process is of the Go runtime, and where the thread
 * left the goroutine's stack, or in a callback from C code the system's. */
inlined void go_stack(void *ctx, struct scratch *x)
{
	struct record_header *r = &x->r;
	u32 process = bpf_get_current_pid_tgid() >> 32;
	u64 g, m, system, current, system_sp, clock = 0, clock_pc = 0;
	struct go_places *p = bpf_map_lookup_elem(&go_processes, &process);

	if (!p)
		return;
	if (read_word(&g, x->thread_pointer + p->tls) != 0) {
		no_labels(ctx, x, p->labels);
		return;
	}
	if (g == 0)
		return; /* a thread that the runtime does not know */
	if (read_word(&m, g + p->m) != 0 || read_word(&system, m) != 0 /* m.g0 is the first field */ || read_word(&current, m + p->current) != 0) {
		no_labels(ctx, x, p->labels);
		return;
	}
	if (current == 0) { /* the thread runs for no goroutine, so that nothing is below the system's stack */
		r->low = r->high = r->sp = r->pc = r->bp = r->system_sp = 0;
		r->kind = KIND_GO_STACK;
		x->other = 1;
		return;
	}
	go_labels(ctx, x, current, p->labels);
	r->kind = KIND_STACK;
	if (bpf_probe_read_user(x->goroutine, GOROUTINE_BYTES, (const void *)current) != 0 || read_word(&system_sp, system + p->sched) != 0)
		return;
	if (p->clock_sp != 0) {
		if (read_word(&clock, m + p->clock_sp) != 0)
			clock = 0;
		else if (read_word(&clock_pc, m + p->clock_pc) != 0)
			return;
	}
	u64 sched = p->sched;
	bounded(sched);
	if (sched > GOROUTINE_BYTES - SCHED_BP - 8)
		return;
	u8 *goroutine = x->goroutine, *left_at = goroutine + sched;
	u64 low = *(u64 *)goroutine, high = *(u64 *)(goroutine + 8);
	r->kind = KIND_GO_STACK;
	r->low = low;
	r->high = high;
	r->system_sp = system_sp;
	r->sp = x->other_sp = *(u64 *)left_at;
	r->pc = *(u64 *)(left_at + SCHED_PC);
	r->bp = *(u64 *)(left_at + SCHED_BP);
	/* Who asks for the time has left the goroutine's stack without the scheduler.
	 * On the system's own stack that says nothing of the goroutine's. */
	if (clock >= low && clock < high) {
		r->sp = clock;
		r->pc = clock_pc;
		x->other_sp = clock - CLOCK_FRAME;
	}
	if (x->sp >= low && x->sp < high) {
		x->left = high - x->sp;
		/* On the goroutine's stack: only C code can be below, on the system's. */
		x->other = p->cgo != 0;
		x->other_sp = system_sp;
		x->other_left = left_of(x, system_sp);
		if (x->other_left == 0)
			x->other_left = COPY_BYTES;
		return;
	}
	x->other = 1;
	x->other_left = high - x->other_sp; /* no more than up to the end of the goroutine's stack */
}
