/* The records that the programs write, and the events that they write through.
 * Go reads them by the types that are generated from these. */
#pragma once

#include "kernel.h"

enum record_kind {
	KIND_STACK = 1,    /* a part of a stack */
	KIND_GO_STACK = 2, /* a part of a goroutine's stack or the system's, with where they were left */
	KIND_PYTHON = 3,   /* frames of CPython */
	KIND_CODE = 4,     /* a code object of CPython */
	KIND_LABELS = 5,   /* labels of a goroutine */
	KIND_TALLY = 6,    /* what was added up so far of events like the one that is sampled */
	KIND_INTERVAL = 7, /* a wait, a system call or a span that has ended: struct interval_record */
	KIND_ROUTINE = 8,  /* what came of a goroutine: struct routine_record */
	KIND_EVENT = 9,    /* an event with what it is about: struct event_record */
	KIND_FILE = 10,    /* what is behind a descriptor: struct file_record */
	KIND_LABEL = 11,   /* what a goroutine does from here on, as its program says: struct label_record */
};
FOR_GO(record_kind);

/* Each record begins with these words. */
struct record_header {
	u64 addr;   /* where the bytes that follow are in the program; of frames, their thread state; of code, the object */
	u64 length; /* how many follow */
	u64 kind;   /* an enum record_kind */
	u64 low;    /* a goroutine's stack is between low and high; of frames, 1 where more follow; of labels, how many there are */
	u64 high;
	u64 sp; /* where the stack that is not in use was left */
	u64 pc; /* of code, its first line */
	u64 bp;
	u64 system_sp; /* where the system's stack was left */
	u64 slot;      /* the scratch memory that it was made in: one program may interrupt another one */
};

enum {
	COPY_BYTES = 16 << 10, /* of a stack, in one record */
	PAGE_BYTES = 4096,
};

struct {
	__uint(type, BPF_MAP_TYPE_PERF_EVENT_ARRAY);
	__type(key, u32);
	__type(value, u32);
	__uint(max_entries, 1); /* one a processor, set when it is loaded */
} outputs SEC(".maps");

/* send writes a record of so many bytes behind its header. */
inlined long send(void *ctx, void *record, u64 length)
{
	return bpf_perf_event_output(ctx, &outputs, BPF_F_CURRENT_CPU, record, sizeof(struct record_header) + length);
}
