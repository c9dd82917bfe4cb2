/* A thread of the program, which is one of the emulator's, too: the calls that it is in, and what
 * is counted of it. */
#pragma once

#include <stddef.h>
#include <stdint.h>

#include "code.h"
#include "index.h"
#include "parked.h"
#include "store.h"

/* MAX_DEPTH is from which depth on a function that is called again from the same place has the
 * context that it has already: deeper recursion shares contexts. */
enum { CACHED = 1 << 13, NEARBY = 1 << 12, MAX_DEPTH = 500 };

/* A count that was used last: the block's in the context or, where there was no room for that, in
 * its function alone. */
struct cached {
	uint32_t context, block;
	uint32_t pair;
};

/* A cell that was used last. */
struct nearby {
	uint32_t pair, instruction;
	struct cell *cell;
};

struct thread {
	struct frame *frames; /* the calls that it is in, the innermost last */
	size_t n, room;
	uint32_t context; /* of the innermost one */
	uint64_t function;
	int outside; /* what it does does not count */
	uint32_t number;

	/* Calls and returns on their way. */
	uint32_t last;      /* block that was executed */
	uint32_t calling;   /* the call that was made last has not arrived */
	uint64_t call_sp;
	uint64_t unmatched; /* from where the return that was made last took its address, of no call that is known; 0 where it is of one */

	/* What the function that leaves a stack wrote, and the one that goes on with one read. */
	struct touched {
		uint64_t at[16];
		uint32_t n;
	} saved, resumed;

	/* What is counted. */
	uint32_t pair;      /* of the block that runs, 0: it is not counted */
	uint32_t before;    /* the one that was counted last */
	uint32_t repeating; /* the block that is the last instruction of it once more */
	uint64_t run;       /* how many blocks were executed */
	struct {            /* the access that was made last: a wide one comes in parts */
		uint64_t run, end;
		uint32_t instruction;
		int store;
	} access;
	struct models *models;
	struct nearby *nearby;
	struct index contexts, pairs;
	struct thread *ended_before; /* in the list of those that have ended */
	struct cached cache[CACHED];
};

/* OWN_THREADS is how many threads have counts of their own. Of those that come later, one that begins
 * goes on with the counts of one that has ended. */
enum { OWN_THREADS = 1000 };

/* The thread that runs, 0 before its first block. */
extern __thread struct thread *self __attribute__((tls_model("initial-exec")));

/* threads_opened prepares for threads; it returns 0 where that cannot be. */
int threads_opened(void);

/* began makes the thread that runs, in a function that nothing called. */
struct thread *began(const struct block *);

/* context_of finds the context of a function called from a place in another, or makes it.
 * Contexts of a thread are its own, so nothing is locked. Where there is no room, it is
 * the function's alone, without what called it, and where there is none for that, it is 0. */
uint32_t context_of(uint32_t parent, uint64_t site, uint64_t function, enum how, uint32_t thread);

/* merged counts a call that has no context of its own. */
static inline void merged(void)
{
	__atomic_fetch_add(&tables.head->merged, 1, __ATOMIC_RELAXED);
}

/* push enters a call, topmost goes on with what is the innermost one now, and inside finds whether
 * one is inside the part that counts, as what called it or by itself. */
void push(struct thread *, struct frame);
void topmost(struct thread *);
void inside(struct frame *, const struct frame *caller);

/* called_once counts a call, of the innermost function. */
void called_once(struct thread *, uint32_t context);

/* rooted gives all calls contexts of this thread: the ones that they have may be another's. */
void rooted(struct thread *);

/* begin_again counts a forked thread from nothing; what it was called by is known. */
void begin_again(struct thread *);
