/* The file that a counted process leaves: tables of fixed size in one file that is mapped
 * shared, so that what was counted is there whenever and however the process ends. Pages that
 * were never written take no room. Package counts reads it; sizes and places are checked
 * there. All numbers are little endian, and 0 is no index: the first entry of each table is
 * not used. */
#pragma once

#include <stdint.h>

#define MAGIC 0x3174636178653e45ull /* "E>exact1" */

enum bounds {
	MAX_BLOCKS = 1 << 21,
	MAX_CONTEXTS = 1 << 20,
	MAX_PAIRS = 1 << 22,
	MAX_MAPPINGS = 1 << 12,
	MAX_BYTES = 1 << 26, /* of texts and of lengths of instructions */
	MAX_CELLS = 1 << 22,
	/* The last of both are for functions alone, without the chain that called them. */
	FLAT_CONTEXTS = 1 << 16,
	FLAT_PAIRS = 1 << 20,
};

struct header {
	uint64_t magic;
	uint32_t blocks, contexts, pairs, mappings, bytes; /* how many there are */
	uint32_t pid, parent;
	uint32_t ended;       /* enum ended */
	uint64_t merged;      /* calls whose context had no room and stand alone, without what called them */
	uint64_t uncounted;   /* blocks that were executed and had no room */
	uint64_t unmatched;   /* returns to where nothing called from */
	uint64_t unnamed;     /* mappings without room */
	uint64_t entered;     /* calls that could have begun the part that counts */
	uint64_t homeless;    /* accesses to memory that had no room */
	uint32_t cells;
	uint32_t broken;      /* stacks that went on in their midst, of which nothing was known */
	uint64_t flat;        /* blocks that were executed in a chain without room, and stand under their function alone */
	uint64_t lost;        /* calls that had no room, alone neither */
	uint64_t followed;    /* threads that go on with the counts of one that had ended */
	uint32_t program, program_length; /* the path that it executed, in bytes */
};

enum ended { RUNNING, EXITED, EXECUTED, LEFT };

/* A file that code is from, where it lies. */
struct mapping {
	uint64_t start, end, offset;
	uint32_t path, path_length; /* in bytes */
};

/* A run of instructions that are executed one after the other. */
struct block {
	uint64_t address;
	uint64_t function; /* where the function begins that it is of; where its mapping does if that is not known */
	uint32_t mapping;  /* 0: of no file */
	uint32_t lengths;  /* of its instructions, in bytes */
	uint16_t instructions;
	uint16_t ending; /* enum ending */
	uint16_t branch; /* enum branch */
	uint16_t unused;
};

enum ending { GOES_ON, CALLS, RETURNS, JUMPS, REPEATS };
enum branch { NO_BRANCH, CONDITIONAL, INDIRECT };

/* A function as it was called from a place, with all that is above it. */
struct context {
	uint64_t function;
	uint64_t site; /* the address of the call, 0: none */
	uint64_t calls;
	uint32_t parent; /* a context */
	uint32_t unused[3];
	uint32_t thread;
	uint32_t how; /* enum how */
};

enum how { BEGAN, CALLED, JUMPED, SIGNALLED, ALONE };

/* How often a block was executed in a context. */
struct pair {
	uint64_t count;
	uint32_t context, block;
	uint32_t next; /* the pair that was counted after it the last time: mostly it is the next one again */
	uint32_t cell; /* the last one that was added */
};

/* What an instruction of a block did to memory in a context, and how a branch was predicted. */
struct cell {
	uint64_t n[7]; /* enum events */
	uint32_t pair, next; /* of the same pair */
	uint32_t instruction; /* of the block, from 0 */
	uint32_t unused;
};

enum events { LOADS, STORES, LOADED, STORED, MISSED_FIRST, MISSED_SECOND, MISPREDICTED };
