/* What the stack programs work with: a place for one record, and how far the
 * copies of the present sample are. */
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

struct scratch {
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

/* One sample, as far as it was dealt with. */
struct sample {
	void *ctx;
	struct task_struct *task;
	struct scratch *s;
	u64 sp;     /* where the stack begins that is looked at */
	u64 copied; /* how much of it is copied already */
	u64 addr;   /* where the next record goes on */
};
