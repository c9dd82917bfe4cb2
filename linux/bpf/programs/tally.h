/* What counting programs add up, and where.
 *
 * Events of a measure may come a million times a second, faster than samples with their
 * stacks can be written. So they are added up here, exactly, by class: events of one
 * thread at the same instruction with the same stack pointer are mostly of one stack. Of
 * each class as many samples are written as there is time for, chosen at random, and each
 * brings along what was added up of its class before. What came since the sample before is
 * then that one's, and what no sample brings is read from the maps. A sample that is lost
 * loses no event. */
#pragma once

#include "members.h"
#include "record.h"

enum tally_flag {
	TALLY_BEFORE = 1, /* began before counting did, so that its stack is not known */
	TALLY_COARSE = 2, /* there was no room for the class by its own instruction and stack */
	TALLY_NOBODY = 4, /* of who woke a thread: that is not known */
};
FOR_GO(tally_flag);

/* Where the file of a system call is to be found. */
enum descriptor_place {
	DESCRIPTOR_FIRST = 1, /* by its first argument */
	DESCRIPTOR_FIFTH = 2, /* by its fifth */
	DESCRIPTOR_MADE = 3,  /* by what it returns */
	DESCRIPTOR_GOES = 4,  /* by its first argument, and not any more when it returns */
	CALLS_KNOWN = 512,
};
FOR_GO(descriptor_place);

/* A class of events. */
struct tally_key {
	u64 ip;
	u64 sp;
	u64 caller; /* of a function, where it returns to */
	u32 pid;
	u32 tid;
	u32 what;  /* number of a system call, kind of a request to a disk, hash of the kernel's stack of a wait */
	u16 event; /* position among the collection's */
	u16 flags; /* of enum tally_flag */
};

/* What was added up of it. */
struct tally {
	u64 count;
	u64 sum;   /* bytes, or nanoseconds */
	u64 run;   /* of waits, how much of it was for a processor: sum is the rest */
	u64 shown; /* how many samples were written */
};

struct tally_record {
	struct record_header r;
	struct tally_key key;
	struct tally before; /* without the event that is sampled */
};

/* A system call or a wait that is going on in a thread. */
struct tally_open {
	struct tally_key key;
	u64 begin; /* 0: none is */
	u64 woken; /* of a wait: since when it could go on; 0: it cannot */
	u64 preempted;
	u64 file; /* of a call that lets go of its descriptor, what was behind it */
};

struct tally_wait {
	struct tally_open o;
	struct tally_key waker; /* who woke it, and where that was */
};

/* A wait, a system call or a span that has ended. It takes the header's words for its own:
 * addr is when it began, low when it ended, high of a wait since when it could go on, sp what a
 * call returned, bp whether it did, pc the processor, system_sp of a span the goroutine, slot of a call
 * the number of its file. */
struct interval_record {
	struct record_header r;
	struct tally_key key;
	struct tally_key waker;
};

/* What the programs and the collector tell each other. */
enum tally_bound {
	TALLY_EVENTS = 128,
};
FOR_GO(tally_bound);

struct tally_control {
	u64 on;
	u64 origin;             /* when counting began, monotonic nanoseconds */
	u64 full[TALLY_EVENTS]; /* by event, how many found no room, even coarsely */
	u64 spans_open;         /* calls of functions that began and did not end, or not by returning */
	u64 unpaired;           /* ends without the beginning that belongs to them: a call that counts, without time */
	u64 thinned[TALLY_EVENTS]; /* by event, how many have no record of their own, since they came too fast */
	u64 unwritten[TALLY_EVENTS]; /* and how many since there was no room for it */
};

enum {
	TALLY_CLASSES = 1 << 16,
	TALLY_THREADS = 1 << 16,
};

struct {
	__uint(type, BPF_MAP_TYPE_ARRAY);
	__type(key, u32);
	__type(value, struct tally_control);
	__uint(max_entries, 1);
} control SEC(".maps");

struct {
	__uint(type, BPF_MAP_TYPE_HASH);
	__type(key, struct tally_key);
	__type(value, struct tally);
	__uint(max_entries, TALLY_CLASSES);
} classes SEC(".maps");

struct {
	__uint(type, BPF_MAP_TYPE_HASH);
	__type(key, u32); /* thread */
	__type(value, struct tally_open);
	__uint(max_entries, TALLY_THREADS);
} calls SEC(".maps");

struct {
	__uint(type, BPF_MAP_TYPE_HASH);
	__type(key, u32); /* thread */
	__type(value, struct tally_wait);
	__uint(max_entries, TALLY_THREADS);
} waits SEC(".maps");

/* How many samples were written lately on a processor. */
struct tally_pace {
	u64 seen; /* when there was an event last */
	u64 room; /* for the first samples of classes */
	u64 began;
	u64 shown;
	u64 bytes; /* of stacks that are known to be deep */
	u64 mask;  /* of a random number: a sample is written where none of these bits is set */
};

struct {
	__uint(type, BPF_MAP_TYPE_PERCPU_ARRAY);
	__type(key, u32);
	__type(value, struct tally_pace);
	__uint(max_entries, 1);
} pace SEC(".maps");

/* How many records were written lately on a processor: first of intervals, then of each
 * event that is written down by itself. */
struct interval_pace {
	u64 began;
	u64 written;
};

struct {
	__uint(type, BPF_MAP_TYPE_PERCPU_ARRAY);
	__type(key, u32);
	__type(value, struct interval_pace);
	__uint(max_entries, 1 + TALLY_EVENTS);
} interval_pace SEC(".maps");

/* Where an allocator was called last, by thread. */
struct tally_last {
	u64 sp;
	u64 caller;
	u64 event;
};

struct {
	__uint(type, BPF_MAP_TYPE_LRU_HASH);
	__type(key, u32); /* thread */
	__type(value, struct tally_last);
	__uint(max_entries, 1 << 13);
} last SEC(".maps");

/* The program that reads what a sample itself does not bring: the one entry, which may
 * be missing. Each kind of event has a map of its own. */
struct {
	__uint(type, BPF_MAP_TYPE_PROG_ARRAY);
	__uint(key_size, sizeof(u32));
	__uint(value_size, sizeof(u32));
	__uint(max_entries, 1);
} reader SEC(".maps");
