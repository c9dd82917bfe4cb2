#include "count.h"

#include "models.h"
#include "store.h"

int remembers;

_Static_assert(MAX_PAIRS <= 1 << ENTRY_BITS && MAX_CONTEXTS <= 1 << ENTRY_BITS, "a slot of an index holds any entry");

static uint64_t hash_pair(uint32_t at)
{
	return mixed(tables.pairs[at].context, tables.pairs[at].block);
}

static int is_pair(uint32_t at, const void *what)
{
	const struct pair *p = what;

	return tables.pairs[at].context == p->context && tables.pairs[at].block == p->block;
}

/* pair_of finds the count of a block in a context, or makes it; 0 where there is no room. */
static uint32_t pair_of(struct thread *t, uint32_t context, uint32_t block, uint32_t most)
{
	struct pair p = {.context = context, .block = block};
	uint32_t at = index_find(&t->pairs, mixed(context, block), is_pair, &p);

	if (at)
		return at;
	at = next(&tables.head->pairs, most);
	if (at) {
		tables.pairs[at] = p;
		index_add(&t->pairs, at, hash_pair);
	}
	return at;
}

/* counted counts the pair at a place, after the one before it. */
static inline void counted(struct thread *t, uint32_t at)
{
	struct pair *p = &tables.pairs[at];

	p->count++;
	t->pair = t->before = at;
	__builtin_prefetch(&tables.pairs[p->next], 1);
}

/* flat_pair is the count of a block in its function alone; 0 where there is no room for that, either. */
static uint32_t flat_pair(struct thread *t, uint32_t block)
{
	uint32_t alone = context_of(0, 0, tables.blocks[block].function, ALONE, t->number);

	return alone ? pair_of(t, alone, block, MAX_PAIRS) : 0;
}

void count(struct thread *t, uint32_t block)
{
	struct pair *before = &tables.pairs[t->before], *p = &tables.pairs[before->next];
	struct cached *c;

	if (p->context == t->context && p->block == block) {
		counted(t, before->next);
		return;
	}
	c = &t->cache[(block ^ t->context * 40503u) % CACHED];
	if (c->context != t->context || c->block != block) {
		uint32_t at = pair_of(t, t->context, block, MAX_PAIRS - FLAT_PAIRS);

		*c = (struct cached){t->context, block, at ? at : flat_pair(t, block)};
	}
	if (c->pair == 0) {
		t->pair = 0;
		uncounted(0, 0);
		return;
	}
	if (t->before)
		before->next = c->pair;
	counted(t, c->pair);
	if (tables.pairs[c->pair].context != t->context)
		__atomic_fetch_add(&tables.head->flat, 1, __ATOMIC_RELAXED);
}

/* cell_of finds where an instruction of the block that runs is counted, or makes it. */
static struct cell *cell_of(struct thread *t, uint32_t instruction)
{
	struct nearby *n = &t->nearby[(t->pair * 11 + instruction) % NEARBY];
	struct pair *p = &tables.pairs[t->pair];
	uint32_t at;

	if (n->pair == t->pair && n->instruction == instruction && n->cell)
		return n->cell;
	for (at = p->cell; at; at = tables.cells[at].next)
		if (tables.cells[at].instruction == instruction)
			break;
	if (at == 0) {
		at = next(&tables.head->cells, MAX_CELLS);
		if (at == 0) {
			__atomic_fetch_add(&tables.head->homeless, 1, __ATOMIC_RELAXED);
			return 0;
		}
		tables.cells[at] = (struct cell){.pair = t->pair, .next = p->cell, .instruction = instruction};
		p->cell = at;
	}
	*n = (struct nearby){t->pair, instruction, &tables.cells[at]};
	return n->cell;
}

/* INSTRUCTION_BITS is how much of a callback's number says which instruction of a block it is. */
enum { INSTRUCTION_BITS = 10 };

/* accessed counts a load or a store. What is wider than a register comes in parts that follow each
 * other, and is one. */
static void accessed(unsigned vcpu, qemu_plugin_meminfo_t info, uint64_t address, void *number)
{
	struct thread *t = self;
	uint32_t instruction = (uintptr_t)number & ((1 << INSTRUCTION_BITS) - 1);
	uint64_t bytes = 1ull << qemu_plugin_mem_size_shift(info);
	int store = qemu_plugin_mem_is_store(info), goes_on;
	struct cell *c;

	(void)vcpu;
	if (!t || !t->pair)
		return;
	if (t->repeating && t->repeating == (uintptr_t)number >> INSTRUCTION_BITS)
		instruction = tables.blocks[t->last].instructions - 1;
	else if (t->last != (uintptr_t)number >> INSTRUCTION_BITS)
		return;
	if (!(c = cell_of(t, instruction)))
		return;
	goes_on = t->access.run == t->run && t->access.instruction == instruction && t->access.store == store && t->access.end == address;
	t->access.run = t->run;
	t->access.instruction = instruction;
	t->access.store = store;
	t->access.end = address + bytes;
	c->n[store ? STORES : LOADS] += !goes_on;
	c->n[store ? STORED : LOADED] += bytes;
	if (modelled)
		models_access(t->models, address, bytes, &c->n[MISSED_FIRST], &c->n[MISSED_SECOND]);
}

void watched(const struct qemu_plugin_tb *tb, uint32_t block)
{
	for (size_t i = 0; remembers && i < qemu_plugin_tb_n_insns(tb); i++)
		qemu_plugin_register_vcpu_mem_cb(qemu_plugin_tb_get_insn(tb, i), accessed, NO_REGISTERS, ACCESSES, (void *)((uintptr_t)block << INSTRUCTION_BITS | i));
}

void predicted(struct thread *t, const struct block *to)
{
	const struct block *last = &tables.blocks[t->last];
	uint64_t at = known[t->last].last;
	struct cell *c;
	int wrong;

	if (last->branch == NO_BRANCH || !t->pair)
		return;
	wrong = last->branch == CONDITIONAL ? models_branch(t->models, at, to->address != known[t->last].after) : models_jump(t->models, at, to->address);
	if (wrong && (c = cell_of(t, last->instructions - 1)))
		c->n[MISPREDICTED]++;
}

void uncounted(unsigned vcpu, void *nothing)
{
	(void)vcpu, (void)nothing;
	__atomic_fetch_add(&tables.head->uncounted, 1, __ATOMIC_RELAXED);
}
