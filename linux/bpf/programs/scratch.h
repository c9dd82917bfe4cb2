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

struct {
	__uint(type, BPF_MAP_TYPE_PERCPU_ARRAY);
	__type(key, u32);
	__type(value, struct scratch);
	__uint(max_entries, 1);
} scratch SEC(".maps");
