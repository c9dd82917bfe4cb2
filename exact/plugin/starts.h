/* Where the functions of a file begin: by its symbols, and by the table that its exceptions are
 * unwound by, which also stripped files have. Places are offsets in the file. */
#pragma once

#include <stddef.h>
#include <stdint.h>

struct starts {
	uint64_t *at; /* in order */
	uint64_t *of; /* the function that it is of: another one for a part that was split off */
	size_t n;
};

/* read_starts reads those of a file; n is 0 where none are known. */
struct starts read_starts(const char *path);

/* Functions of the Go runtime by which a thread goes from one goroutine's stack to another's: two
 * leave a stack to be returned to, one of them to make it larger, and one goes on with a stack
 * that was left. They are places in a file whose symbols name them, else 0. */
struct switches {
	uint64_t leaves, grows, goes_on, goes_on_then; /* the last one jumps to the other, in some versions */
};

/* read_starts fills in these. */
extern struct switches found_switches;

/* start_of returns where the function begins that a place is in, or fallback. */
uint64_t start_of(const struct starts *, uint64_t place, uint64_t fallback);
