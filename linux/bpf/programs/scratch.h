/* What the stack programs work with. */
#pragma once

#include "record.h"

enum label_bound {
	MAX_LABELS = 8,
	LABEL_NAME_BYTES = 40, /* what is longer is cut */
	LABEL_TEXT_BYTES = 72,
};
FOR_GO(label_bound);

enum {
	GOROUTINE_BYTES = 128, /* of the runtime's record of one: the stack's bounds first, then where it was left */
};

struct go_label {
	u64 name_length;
	u8 name[LABEL_NAME_BYTES];
	u64 text_length;
	u8 text[LABEL_TEXT_BYTES];
};

/* One sample, as far as it was dealt with, and a record. What stands here and not on
 * the program's own stack is forgotten by the kernel's check of the program from one
 * use to the next, so that it does not check everything that follows once for each
 * way there; and what the kernel has of the thread is read once. */
struct scratch {
	u64 busy; /* 1: of a program that is interrupted, see enum scratch_slot */
	u64 thread_pointer;
	u64 stack_start; /* of the process's first thread */
	u64 code_start;
	u64 signal_stack, signal_stack_size;
	u64 sp;     /* where the stack begins that is in use */
	u64 copied; /* how much of it is copied already */
	u64 left;   /* how much of it there is; 0: not known */
	u64 other;  /* 1: there is a part of another stack to be copied: */
	u64 other_sp;
	u64 other_left;
	u64 addr;   /* where the next record goes on */
	u64 limit;  /* and how much it has at most */

	struct record_header r;
	union {
		u8 bytes[COPY_BYTES + PAGE_BYTES];
		u64 words[(COPY_BYTES + PAGE_BYTES) / 8];
		struct {
			struct go_label labels[MAX_LABELS];
			u64 list[2];    /* the runtime's list of labels: where it is, and how many */
			u64 reading[4]; /* one of it: the name's place and length, the text's */
		};
		struct {
			u64 before[8];
			u8 goroutine[GOROUTINE_BYTES];
		};
	};
};

/* A processor has more than one. While a program runs that reads a stack, an interrupt may run
 * another one there, and at a probe of a program even another thread may: what either had half done
 * would be the other one's. */
enum scratch_slot {
	SLOT_EVENT,                   /* of sampling events, and of tracepoints and probes with an event each: the kernel lets none of those interrupt another */
	SLOT_RAW,                     /* of programs at raw tracepoints; interrupts of two kinds may have such, too */
	SLOT_PROBED = SLOT_RAW + 3,   /* of what runs at many probes at once, which may be interrupted by other threads */
	SLOTS = SLOT_PROBED + 3,
};
FOR_GO(scratch_slot);

struct {
	__uint(type, BPF_MAP_TYPE_PERCPU_ARRAY);
	__type(key, u32);
	__type(value, struct scratch);
	__uint(max_entries, SLOTS);
} scratch SEC(".maps");

inlined struct scratch *scratch_at(u32 slot) { return bpf_map_lookup_elem(&scratch, &slot); }

/* raw_slot is the one that the innermost program at a raw tracepoint works in; they end in the
 * reverse order of their beginning. */
inlined u32 raw_slot(void)
{
	struct scratch *x;

	for (u32 i = SLOT_PROBED - 1; i > SLOT_RAW; i--) {
		x = scratch_at(i);
		if (x && x->busy)
			return i;
	}
	return SLOT_RAW;
}
