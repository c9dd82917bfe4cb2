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

/* go_idle says that the thread runs for no goroutine, so that nothing is below
 * the system's stack. */
inlined void go_idle(struct sample *x)
{
	struct record_header *r = &x->s->r;

	r->addr = r->low = r->high = r->sp = r->pc = r->bp = r->system_sp = 0;
	r->kind = KIND_GO_STACK;
	x->addr = 0;
	copy(x, 0);
}

/* go_stack looks whether the process is of the Go runtime, and where the thread
 * left the goroutine's stack, or in a callback from C code the system's. */
inlined void go_stack(struct sample *x)
{
	struct record_header *r = &x->s->r;
	u32 process = bpf_get_current_pid_tgid() >> 32;
	u64 g, m, system, current, system_sp, clock = 0, clock_pc = 0, left, from, limit;
	struct go_places *p = bpf_map_lookup_elem(&go_processes, &process);

	if (!p || read_word(&g, x->task->thread.fsbase + p->tls) != 0 || g == 0)
		return; /* a thread that the runtime does not know */
	if (read_word(&m, g + p->m) != 0 || read_word(&system, m) != 0 /* m.g0 is the first field */ || read_word(&current, m + p->current) != 0)
		return;
	if (current == 0) {
		go_idle(x);
		return;
	}
	go_labels(x, current, p->labels);
	if (bpf_probe_read_user(x->s->goroutine, GOROUTINE_BYTES, (const void *)current) != 0 || read_word(&system_sp, system + p->sched) != 0)
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
	u8 *goroutine = x->s->goroutine, *left_at = goroutine + sched;
	u64 low = *(u64 *)goroutine, high = *(u64 *)(goroutine + 8);
	r->low = low;
	r->high = high;
	r->system_sp = system_sp;
	r->sp = from = *(u64 *)left_at;
	r->pc = *(u64 *)(left_at + SCHED_PC);
	r->bp = *(u64 *)(left_at + SCHED_BP);
	r->kind = KIND_GO_STACK;
	/* Who asks for the time has left the goroutine's stack without the scheduler.
	 * On the system's own stack that says nothing of the goroutine's. */
	if (clock >= low && clock < high) {
		r->sp = clock;
		r->pc = clock_pc;
		from = clock - CLOCK_FRAME;
	}
	if (x->sp >= low && x->sp < high) {
		copy_rest(x, high - x->sp);
		/* On the goroutine's stack: only C code can be below, on the system's. */
		if (p->cgo == 0)
			return;
		x->sp = x->addr = system_sp;
		limit = left_of(x, &left) ? left : COPY_BYTES;
	} else {
		x->addr = from;
		limit = high - from; /* no more than up to the end of the goroutine's stack */
	}
	copy(x, limit < COPY_BYTES ? limit : COPY_BYTES);
}
