/* Samples that a program writes itself, whoever runs, where no event makes one. */
#pragma once

#include "scratch.h"

/* The events whose samples they are, by processor. */
struct {
	__uint(type, BPF_MAP_TYPE_PERF_EVENT_ARRAY);
	__type(key, u32);
	__type(value, u32);
	__uint(max_entries, 1); /* one a processor, set when it is made */
} samples SEC(".maps");

/* write_sample writes one. What the kernel does not bring with it is written before. */
inlined int write_sample(void *ctx)
{
	u64 nothing = 0;

	bpf_perf_event_output(ctx, &samples, BPF_F_CURRENT_CPU, &nothing, sizeof(nothing));
	return 0;
}

/* end_raw writes the sample of a raw tracepoint, and lets go of what it was worked out in. */
inlined int end_raw(void *ctx)
{
	struct scratch *x = scratch_at(raw_slot());

	write_sample(ctx);
	if (x)
		x->busy = 0;
	return 0;
}
