/* The kernel copies the stack from the stack pointer on. A thread may have left
 * another stack behind: a signal handler runs on a stack of its own, and the Go
 * runtime changes between goroutines' stacks and the system's. What is on those
 * can only be read at the very moment of the sample, by these programs. They look
 * where the other stack was left, copy from there on, and write that as a record
 * into the same ring, right before the sample. Where they may not be loaded, such
 * stacks are cut off. */
#include "signalstack.h"
#include "gostack.h"
#include "pythonfind.h"

/* How much of a stack the kernel copies itself. */
volatile const u32 stack_bytes;

inlined bool begin(struct sample *x, void *ctx)
{
	u32 zero = 0;
	struct pt_regs *registers;

	x->ctx = ctx;
	x->task = bpf_get_current_task_btf();
	registers = (struct pt_regs *)bpf_task_pt_regs(x->task);
	x->sp = registers->sp;
	x->copied = stack_bytes;
	x->s = bpf_map_lookup_elem(&scratch, &zero);
	return x->s != 0;
}

/* The sample itself is kept in any case. */
enum { KEEP = 1 };

SEC("perf_event")
int other_stacks(void *ctx)
{
	struct sample x;

	if (begin(&x, ctx)) {
		signal_stack(&x);
		copy_deep(&x);
		go_stack(&x);
	}
	python_find(ctx);
	return KEEP;
}

/* What runs at a tracepoint or a probe runs for every process of the machine: it
 * does something only in those whose runtime it was told of. */
inlined int traced(void *ctx)
{
	struct sample x;

	if (begin(&x, ctx))
		go_stack(&x);
	python_find(ctx);
	return KEEP;
}

SEC("tracepoint")
int other_traced_tracepoint(void *ctx)
{
	return traced(ctx);
}

SEC("kprobe")
int other_traced_kprobe(void *ctx)
{
	return traced(ctx);
}
