/* The kernel copies the stack from the stack pointer on. A thread may have left
 * another stack behind: a signal handler runs on a stack of its own, and the Go
 * runtime changes between goroutines' stacks and the system's. What is on those
 * can only be read at the very moment of the sample, by these programs. They look
 * where the other stack was left, copy from there on, and write that as a record
 * into the same ring, right before the sample. Where they may not be loaded, such
 * stacks are cut off. */
#include "members.h"
#include "signalstack.h"
#include "gostack.h"
#include "pythonfind.h"
#include "samples.h"

/* How much of a stack the kernel copies itself. */
volatile const u32 stack_bytes;

/* 1: at a tracepoint or a probe, all of a stack is copied, as at a tick of the clock.
 * It takes too long where every event is written down; of those that are added up, a few are. */
volatile const u32 all_of_traced;

/* begin returns the scratch memory with what the kernel has of the thread, 0 where
 * there is nothing to be read. */
inlined struct scratch *begin(u32 slot)
{
	struct task_struct *task = (struct task_struct *)bpf_get_current_task();
	struct pt_regs *registers = (struct pt_regs *)bpf_task_pt_regs(bpf_get_current_task_btf());
	struct mm_struct *memory;
	struct scratch *x = scratch_at(slot);

	if (!x || READ(memory, task->mm) != 0 || !memory)
		return 0; /* a thread of the kernel */
	READ(x->stack_start, memory->start_stack);
	READ(x->code_start, memory->start_code);
	READ(x->thread_pointer, task->thread.fsbase);
	READ(x->signal_stack, task->sas_ss_sp);
	READ(x->signal_stack_size, task->sas_ss_size);
	READ(x->sp, registers->sp);
	x->copied = stack_bytes;
	x->left = x->other = x->other_sp = x->other_left = 0;
	x->r.kind = KIND_STACK;
	x->r.slot = slot;
	return x;
}

/* What becomes of the sample itself. */
enum {
	DROP = 0,
	KEEP = 1,
};

/* 1: the clock is the processors', which interrupts whoever runs, and only members' samples
 * are kept. Events that are written down one by one are opened on members alone. */
volatile const u32 members_only;

/* What a program of a sampling event is given: the registers of x86-64 first. */
struct sampled {
	u64 registers[21];
	u64 sample_period; /* 1: every event is written down */
};

SEC("perf_event")
int other_stacks(struct sampled *ctx)
{
	struct scratch *x;

	if (members_only && ctx->sample_period > 1 && !is_member())
		return DROP;
	x = begin(SLOT_EVENT);
	if (!x)
		return KEEP;
	signal_stack(x);
	x->left = left_of(x, x->sp);
	if (x->copied == 0 && x->left == 0)
		x->left = COPY_BYTES; /* as long as it may be, of a stack that the kernel did not copy */
	go_stack(ctx, x);
	copy_all(ctx, x);
	python_find(ctx, x);
	return KEEP;
}

/* What runs at a tracepoint or a probe runs for every process of the machine: it
 * does something only in those whose runtime it was told of. */
inlined int traced(void *ctx, u32 slot)
{
	struct scratch *x = begin(slot);

	if (!x)
		return KEEP;
	if (all_of_traced)
		x->left = left_of(x, x->sp);
	go_stack(ctx, x);
	copy_all(ctx, x);
	python_find(ctx, x);
	return KEEP;
}

/* raw_begin takes the first free of the slots. It need not be done at once: what interrupts in
 * between is over when this goes on. */
inlined u32 raw_begin(void)
{
	struct scratch *x;
	u32 slot = SLOT_RAW;

	for (; slot < SLOT_PROBED - 1; slot++) {
		x = scratch_at(slot);
		if (x && !x->busy)
			break;
	}
	x = scratch_at(slot);
	if (x)
		x->busy = 1;
	return slot;
}

/* Where no event makes a sample, it is written last. */
SEC("raw_tracepoint")
int other_sampled(void *ctx)
{
	traced(ctx, raw_begin());
	return end_raw(ctx);
}

SEC("tracepoint")
int other_traced_tracepoint(void *ctx)
{
	return traced(ctx, SLOT_EVENT);
}

SEC("kprobe")
int other_traced_kprobe(void *ctx)
{
	return traced(ctx, SLOT_EVENT);
}

/* What runs at many probes at once has no event of its own either. */
SEC("uprobe.multi")
int other_probed(void *ctx)
{
	struct scratch *x = 0;
	u32 slot;

	for (slot = SLOT_PROBED; slot < SLOTS; slot++) {
		x = scratch_at(slot);
		if (x && __sync_val_compare_and_swap(&x->busy, 0, 1) == 0)
			break;
		x = 0;
	}
	if (!x)
		return write_sample(ctx); /* its stack is cut off where the kernel's copy ends */
	if (begin(slot)) {
		x->left = left_of(x, x->sp);
		go_stack(ctx, x);
		copy_all(ctx, x);
	}
	write_sample(ctx);
	x->busy = 0;
	return 0;
}
