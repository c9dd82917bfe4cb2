/* Numbers of a table's entries, found by what the entries are of. Each thread has its own, so
 * nothing is locked. */
#pragma once

#include <stdint.h>
#include <stdlib.h>
#include <unistd.h>

struct index {
	uint32_t *slots; /* 0: free */
	uint32_t room;   /* a power of two */
	uint32_t used;
};

static inline uint64_t mixed(uint64_t a, uint64_t b)
{
	a = (a ^ b * 0xc2b2ae3d27d4eb4full) * 0x9e3779b97f4a7c15ull;
	return a ^ a >> 29;
}

/* index_slot is where an entry of a hash is looked for next. */
static inline uint32_t index_slot(const struct index *x, uint64_t hash, uint32_t tries)
{
	return (uint32_t)(hash + tries) & (x->room - 1);
}

/* index_add adds an entry that is not there yet; hash_of gives an entry's. */
static inline void index_add(struct index *x, uint32_t entry, uint64_t (*hash_of)(uint32_t entry))
{
	uint32_t tries = 0;

	if (2 * x->used >= x->room) {
		struct index larger = {.room = x->room ? 2 * x->room : 256};

		larger.slots = calloc(larger.room, sizeof(*larger.slots));
		if (!larger.slots)
			_exit(125);
		for (uint32_t i = 0; i < x->room; i++)
			if (x->slots[i])
				index_add(&larger, x->slots[i], hash_of);
		free(x->slots);
		*x = larger;
	}
	while (x->slots[index_slot(x, hash_of(entry), tries)])
		tries++;
	x->slots[index_slot(x, hash_of(entry), tries)] = entry;
	x->used++;
}

static inline void index_clear(struct index *x)
{
	free(x->slots);
	*x = (struct index){0};
}
