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

/* A slot holds the entry's number and, above it, a part of its hash, so that other entries are
 * hardly ever looked at. */
enum { ENTRY_BITS = 22 };

#define ENTRY(slot) ((slot) & ((1u << ENTRY_BITS) - 1))

static inline uint64_t mixed(uint64_t a, uint64_t b)
{
	a = (a ^ b * 0xc2b2ae3d27d4eb4full) * 0x9e3779b97f4a7c15ull;
	return a ^ a >> 29;
}

static inline uint32_t index_tag(uint64_t hash)
{
	return (uint32_t)(hash >> 32) & ~0u << ENTRY_BITS;
}

/* index_find is the entry that has this hash and is what is looked for; 0: there is none. */
static inline uint32_t index_find(const struct index *x, uint64_t hash, int (*is)(uint32_t entry, const void *what), const void *what)
{
	if (!x->room)
		return 0;
	for (uint32_t at = hash & (x->room - 1);; at = (at + 1) & (x->room - 1)) {
		uint32_t slot = x->slots[at];

		if (!slot)
			return 0;
		if (slot - ENTRY(slot) == index_tag(hash) && is(ENTRY(slot), what))
			return ENTRY(slot);
	}
}

static inline void index_put(struct index *x, uint32_t slot, uint64_t hash)
{
	uint32_t at = hash & (x->room - 1);

	while (x->slots[at])
		at = (at + 1) & (x->room - 1);
	x->slots[at] = slot;
	x->used++;
}

/* index_add adds an entry that is not there yet; hash_of gives an entry's. */
static inline void index_add(struct index *x, uint32_t entry, uint64_t (*hash_of)(uint32_t entry))
{
	uint64_t hash = hash_of(entry);

	if (2 * x->used >= x->room) {
		struct index larger = {.room = x->room ? 2 * x->room : 256};

		larger.slots = calloc(larger.room, sizeof(*larger.slots));
		if (!larger.slots)
			_exit(125);
		for (uint32_t i = 0; i < x->room; i++)
			if (x->slots[i])
				index_put(&larger, x->slots[i], hash_of(ENTRY(x->slots[i])));
		free(x->slots);
		*x = larger;
	}
	index_put(x, index_tag(hash) | entry, hash);
}

static inline void index_clear(struct index *x)
{
	free(x->slots);
	*x = (struct index){0};
}
