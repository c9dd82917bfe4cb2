/* Models of a processor's caches and of its prediction of branches: simple ones, which are
 * called models wherever their figures are shown. Each thread has its own. */
#pragma once

#include <stdint.h>

struct models;

/* A cache with a number of sets, each with so many lines, the one that was used longest ago
 * making room. */
struct cache_shape {
	uint32_t sets, ways;
	uint32_t line; /* bytes */
};

/* models_read reads the shapes of both levels, as sets/ways/line,sets/ways/line; it returns 0
 * where that is none. */
int models_read(const char *text);

/* modelled says that there are models. */
extern int modelled;

struct models *models_new(void); /* 0 where there is no memory for them */
void models_free(struct models *);

/* models_access counts the lines of an access that the first level does not have, and those that
 * the second does not have either. */
void models_access(struct models *, uint64_t address, uint32_t size, uint64_t *first, uint64_t *second);

/* models_branch reports whether a conditional branch was predicted wrong: by a counter of two bits
 * for each of 4096 places. models_jump does so for a jump or call to where a register or memory
 * says, which is predicted to go where it went the last time. */
int models_branch(struct models *, uint64_t address, int taken);
int models_jump(struct models *, uint64_t address, uint64_t to);
