#define _GNU_SOURCE
#include "models.h"

#include <stdio.h>
#include <stdlib.h>
#include <sys/mman.h>

enum { COUNTERS = 4096, TARGETS = 1024 };

static struct cache_shape shapes[2];
static uint32_t shift[2], mask[2]; /* of a line's bytes, and of the number of sets where that is a power of two */
int modelled;

struct models {
	uint8_t counters[COUNTERS]; /* 0 and 1: not taken; 2 and 3: taken */
	struct {
		uint64_t from, to;
	} targets[TARGETS];
	/* Of the first level, then of the second: the lines of each set, the one that was used last
	 * first, as their number and 1; 0 is none. */
	uint64_t lines[];
};

static size_t lines_of(const struct cache_shape *c) { return (size_t)c->sets * c->ways; }

static size_t size(void)
{
	return sizeof(struct models) + (lines_of(&shapes[0]) + lines_of(&shapes[1])) * sizeof(uint64_t);
}

static int fits(const struct cache_shape *c)
{
	return c->sets > 0 && c->sets <= 1 << 20 && c->ways > 0 && c->ways <= 64 && c->line >= 8 && c->line <= 4096 && (c->line & (c->line - 1)) == 0 && lines_of(c) <= 1 << 22;
}

int models_read(const char *text)
{
	struct cache_shape *a = &shapes[0], *b = &shapes[1];

	modelled = sscanf(text, "%u/%u/%u+%u/%u/%u", &a->sets, &a->ways, &a->line, &b->sets, &b->ways, &b->line) == 6 && fits(a) && fits(b);
	for (int i = 0; i < 2 && modelled; i++) {
		shift[i] = __builtin_ctz(shapes[i].line);
		mask[i] = (shapes[i].sets & (shapes[i].sets - 1)) == 0 ? shapes[i].sets - 1 : 0;
	}
	return modelled;
}

struct models *models_new(void)
{
	void *p = mmap(0, size(), PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE, -1, 0);

	return p == MAP_FAILED ? 0 : p;
}

void models_free(struct models *m)
{
	if (m)
		munmap(m, size());
}

/* missed looks a line up, which is the first of its set then. */
static inline int missed(struct models *m, int level, uint64_t line)
{
	const struct cache_shape *c = &shapes[level];
	uint64_t *set = m->lines + (level ? lines_of(&shapes[0]) : 0) + (size_t)(mask[level] ? line & mask[level] : line % c->sets) * c->ways;
	uint64_t tag = line + 1, before = set[0];

	if (before == tag)
		return 0;
	set[0] = tag;
	for (uint32_t i = 1; i < c->ways; i++) {
		uint64_t here = set[i];

		set[i] = before;
		if (here == tag)
			return 0;
		before = here;
	}
	return 1;
}

void models_access(struct models *m, uint64_t address, uint32_t n, uint64_t *first, uint64_t *second)
{
	uint64_t last = (address + n - 1) >> shift[0];

	for (uint64_t at = address >> shift[0]; at <= last; at++) {
		if (!missed(m, 0, at))
			continue;
		++*first;
		*second += missed(m, 1, at << shift[0] >> shift[1]);
	}
}

int models_branch(struct models *m, uint64_t address, int taken)
{
	uint8_t *c = &m->counters[(address ^ address >> 12) % COUNTERS];
	int wrong = (*c >= 2) != taken;

	if (taken && *c < 3)
		++*c;
	else if (!taken && *c > 0)
		--*c;
	return wrong;
}

int models_jump(struct models *m, uint64_t address, uint64_t to)
{
	uint64_t at = (address ^ address >> 10) % TARGETS;
	int wrong = m->targets[at].from != address || m->targets[at].to != to;

	m->targets[at].from = address;
	m->targets[at].to = to;
	return wrong;
}
