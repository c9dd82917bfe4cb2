/* What the programs that read CPython's frames know of a process, and where they
 * work. */
#pragma once

#include "scratch.h"

enum python_bound {
	PYTHON_RECORD_FRAMES = 64,  /* in one record; so many records follow each other as there are */
	PYTHON_FRAME_BYTES = 96,    /* that are read of one frame, at most */
	PYTHON_NAME_BYTES = 320,
	PYTHON_FILE_BYTES = 576,
	PYTHON_TABLE_BYTES = 8 << 10,
	PYTHON_STATES_KEPT = 4,     /* a thread has one in each interpreter that it was in */
	PYTHON_THREADS = 1000,      /* and interpreters that are looked at for the present thread */
	PYTHON_THREADS_AT_ONCE = 100,
	PYTHON_CODES_AT_ONCE = 8,
};
FOR_GO(python_bound);

enum { PYTHON_FRAME_ROOM = 128 }; /* a power of two that has the bytes of a frame */

/* The programs call each other by these numbers. */
enum python_call { PYTHON_STATES, PYTHON_FRAMES, PYTHON_CODES, PYTHON_CALLS };
FOR_GO(python_call);

/* Where the interpreter of a process has what, in bytes from the start of its
 * structures. */
struct python_places {
	u64 code_start; /* where the process's code began when this was noted, 0: not noted yet */
	u64 first;      /* address of the pointer to the first interpreter, or from the code's begin */
	u64 relative;   /* 1: from the code's begin */
	u64 next_interpreter;
	u64 threads;
	u64 next_thread;
	u64 thread_id;
	u64 current;
	u64 has_cframe; /* 1: a _PyCFrame is between */
	u64 marked;     /* 1: frames are marked as entries */
	u64 in_cframe;
	u64 frame_size;
	u64 code;
	u64 code_mask;
	u64 previous;
	u64 instruction;
	u64 flags;
	u64 entry_shift; /* in the flags */
	u64 filename;
	u64 first_line;
	u64 line_table;
	u64 table_length; /* in a bytes object */
	u64 qualname;
};

/* What tells a code object from another one that has its address later. */
struct python_identity {
	u64 filename;
	u64 qualname;
	u64 line_table;
};

struct python_entry {
	u64 frame;
	u64 code;
	u64 instruction;
	u64 previous;
	u64 flags;
	struct python_identity identity;
	u64 cframe; /* of 3.11: the record on the C stack that the frame belongs to */
	u64 outer;  /* and the innermost frame that the next outer such record has */
};

struct python_code {
	u8 name[PYTHON_NAME_BYTES];
	u8 file[PYTHON_FILE_BYTES];
	u8 table[PYTHON_TABLE_BYTES];
};

/* A code object that is still to be read. */
struct python_pending {
	u64 code;
	struct python_identity identity;
};

/* Where the walk along a state's frames is. */
struct python_walk {
	u64 frame;
	u64 cframe;
};

struct python_seen_key {
	u64 process; /* and where its code begins */
	u64 code;
};

struct python_scratch {
	struct record_header r;
	union {
		struct python_entry entries[PYTHON_RECORD_FRAMES];
		struct python_code codes;
	};
	u8 frame[PYTHON_FRAME_ROOM + 8];
	u64 object[4]; /* out of a code object: its file name, name, qualified name, line table */
	u64 states[PYTHON_STATES_KEPT];
	u64 found;   /* how many states */
	u64 state;   /* which of them is next */
	u64 next;    /* frame to go on from, 0: from the innermost */
	u64 cframe;
	u64 pending; /* how many code objects are to be read */
	u64 done;    /* and how many of them were */
	struct python_walk walk;
	struct python_pending codes_pending[PYTHON_RECORD_FRAMES];
	struct python_places places; /* a copy, so that they are found without a look-up */
	u64 key;
	u64 start;          /* where the process's code begins */
	u64 thread_pointer;
	u64 thread;         /* where the search for its states is */
	u64 interpreter;
	u64 rounds;
	u64 address; /* of the state whose frames are read */
};

struct {
	__uint(type, BPF_MAP_TYPE_LRU_HASH);
	__type(key, u32); /* process */
	__type(value, struct python_places);
	__uint(max_entries, 4096);
} python_processes SEC(".maps");

struct {
	__uint(type, BPF_MAP_TYPE_PERCPU_ARRAY);
	__type(key, u32);
	__type(value, struct python_scratch);
	__uint(max_entries, SLOT_PROBED); /* where many probes are, frames are not read */
} python_scratch SEC(".maps");

struct {
	__uint(type, BPF_MAP_TYPE_PROG_ARRAY);
	__type(key, u32);
	__type(value, u32);
	__uint(max_entries, PYTHON_CALLS);
} python_calls SEC(".maps");
