/* Counts what a program executes: how often each block of instructions, and in which chain of
 * calls. The emulator tells when a block begins and where calls and returns touch the stack;
 * its registers are not to be had. So a call is known by the address at which it leaves where
 * to return to, and a return belongs to the nearest call that left its address there: whatever
 * is in between was left by a long jump or an exception. */
#define _GNU_SOURCE
#include <elf.h>
#include <fcntl.h>
#include <pthread.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <unistd.h>

#include "api.h"
#include "code.h"
#include "execute.h"
#include "index.h"
#include "models.h"
#include "parked.h"
#include "part.h"
#include "store.h"

EXPORTED int qemu_plugin_version = 1;

/* MAX_DEPTH is from which depth on a function that is called again from the same place has the
 * context that it has already: deeper recursion shares contexts. */
enum { CACHED = 1 << 13, MAX_HANDLERS = 1024, MAX_DEPTH = 500, SAME_STACK = 1 << 16 };

struct cached {
	uint32_t context, block;
	struct pair *pair;
};

struct nearby {
	uint32_t pair, instruction;
	struct cell *cell;
};

enum { NEARBY = 1 << 12 };

static int remembers; /* accesses to memory are counted */

/* A thread of the program, which is one of the emulator's, too. */
struct thread {
	struct frame *frames;
	size_t n, room;
	uint32_t context; /* of the topmost frame */
	uint64_t function;
	int outside;      /* what it does does not count */
	uint32_t last;    /* block that was executed */
	uint32_t calling; /* the call that was made last has not arrived */
	uint64_t call_sp;
	uint64_t unmatched; /* from where the return that was made last took its address, of no call that is known; 0 where it is of one */
	uint64_t left_sp, left_resume; /* of the stack that it left last */
	/* What the function that leaves a stack wrote, and the one that goes on with one read. */
	struct touched {
		uint64_t at[16];
		uint32_t n;
	} saved, resumed;
	uint64_t undecided; /* where the stack goes on that it went on with, and that is not known yet */
	uint32_t number;
	uint32_t pair;     /* of the block that runs, 0: it is not counted */
	uint32_t repeating; /* the block that is the last instruction of it once more */
	uint64_t run;      /* how many blocks were executed */
	struct {           /* the access that was made last: a wide one comes in parts */
		uint64_t run, end;
		uint32_t instruction;
		int store;
	} access;
	struct models *models;
	struct nearby *nearby; /* cells that were used last */
	struct index contexts, pairs;
	struct cached cache[CACHED];
};

static __thread struct thread *self __attribute__((tls_model("initial-exec")));
static uint32_t threads;
static pthread_key_t ends; /* of threads, whose memory is let go of */
static enum processor processor;

static uint64_t handlers[MAX_HANDLERS];
static uint32_t handler_n;

static int is_handler(uint64_t address)
{
	uint32_t n = __atomic_load_n(&handler_n, __ATOMIC_ACQUIRE);

	for (uint32_t i = 0; i < n && i < MAX_HANDLERS; i++)
		if (handlers[i] == address)
			return 1;
	return 0;
}

static uint64_t hash_context(uint32_t at)
{
	const struct context *c = &tables.contexts[at];

	return mixed(mixed(c->function, c->site), (uint64_t)c->parent << 8 | c->how);
}

static uint64_t hash_pair(uint32_t at)
{
	return mixed(tables.pairs[at].context, tables.pairs[at].block);
}

/* context_of finds the context of a function called from a place in another, or makes it.
 * Contexts of a thread are its own, so nothing is locked. Where there is no room, it is the
 * caller's. */
static uint32_t context_of(uint32_t parent, uint64_t site, uint64_t function, enum how how, uint32_t thread)
{
	struct index *x = &self->contexts;
	uint64_t hash = mixed(mixed(function, site), (uint64_t)parent << 8 | how);
	uint32_t at;

	for (uint32_t tries = 0; x->room && (at = x->slots[index_slot(x, hash, tries)]); tries++) {
		const struct context *c = &tables.contexts[at];

		if (c->function == function && c->site == site && c->parent == parent && c->how == how)
			return at;
	}
	at = next(&tables.head->contexts, how == ALONE ? MAX_CONTEXTS : MAX_CONTEXTS - FLAT_CONTEXTS);
	if (at == 0) {
		__atomic_fetch_add(&tables.head->merged, 1, __ATOMIC_RELAXED);
		return parent;
	}
	tables.contexts[at] = (struct context){.function = function, .site = site, .parent = parent, .thread = thread, .how = how};
	index_add(x, at, hash_context);
	return at;
}

static void topmost(struct thread *t)
{
	struct frame *f = &t->frames[t->n - 1];

	t->context = f->context;
	t->function = f->function;
	t->outside = parted && f->inside != COUNTED;
}

/* enter finds whether a call is inside the part that counts, as what called it, or by itself. */
static void enter(struct frame *f, const struct frame *caller)
{
	if (!f->inside && caller)
		f->inside = caller->inside;
	if (!f->inside && part_begins(f->function))
		f->inside = part_enter();
}

/* called_once counts a call, of the topmost function. */
static void called_once(struct thread *t, uint32_t context)
{
	if (!t->outside)
		tables.contexts[context].calls++;
}

static void push(struct thread *t, struct frame f)
{
	if (t->n == t->room) {
		size_t room = t->room ? 2 * t->room : 256;
		void *p = reallocarray(t->frames, room, sizeof(*t->frames));

		if (!p)
			_exit(125);
		t->frames = p;
		t->room = room;
	}
	if (parted)
		enter(&f, t->n ? &t->frames[t->n - 1] : 0);
	t->frames[t->n++] = f;
	topmost(t);
}

/* let_go is called when a thread has ended; what it counted stays. */
static void let_go(void *of)
{
	struct thread *t = of;

	self = 0;
	free(t->frames);
	free(t->nearby);
	index_clear(&t->contexts);
	index_clear(&t->pairs);
	models_free(t->models);
	munmap(t, sizeof(*t));
}

static struct thread *began(const struct block *b)
{
	struct thread *t = mmap(0, sizeof(*t), PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);

	if (t == MAP_FAILED)
		_exit(125);
	t->number = __atomic_add_fetch(&threads, 1, __ATOMIC_RELAXED);
	if (remembers && !(t->nearby = calloc(NEARBY, sizeof(*t->nearby))))
		_exit(125);
	if (modelled && !(t->models = models_new()))
		_exit(125);
	self = t;
	pthread_setspecific(ends, t);
	uint32_t c = context_of(0, 0, b->function, BEGAN, t->number);
	push(t, (struct frame){.function = b->function, .context = c, .how = BEGAN});
	return t;
}

static int goes_on(uint64_t function)
{
	return function && (function == goes_on_with_stack[0] || function == goes_on_with_stack[1]);
}

/* begins_switch forgets what was touched by the switch before. */
static void begins_switch(struct thread *t, const struct block *b)
{
	if (b->function && (b->function == leaves_stack || b->function == grows_stack))
		t->saved.n = 0;
	else if (goes_on(b->function) && !goes_on(t->function))
		t->resumed.n = 0;
}

/* replace has another function go on in the place of the topmost one, which returns to where
 * that would have. */
static void replace(struct thread *t, const struct block *b, int call)
{
	struct frame *f = &t->frames[t->n - 1];
	uint32_t parent = t->n > 1 ? t->frames[t->n - 2].context : 0;

	if (t->n > 1 || call)
		f->context = context_of(parent, f->site, b->function, t->n > 1 ? JUMPED : BEGAN, t->number);
	f->function = b->function;
	if (call)
		begins_switch(t, b);
	if (parted)
		enter(f, 0);
	topmost(t);
	if (call)
		called_once(t, f->context);
}

/* rooted gives frames contexts of this thread: the ones that they have may be another's. */
static void rooted(struct thread *t, size_t from)
{
	for (size_t i = from; i < t->n; i++) {
		struct frame *f = &t->frames[i];

		if (i > MAX_DEPTH && tables.contexts[f->context].thread == t->number)
			continue;
		f->context = context_of(i ? t->frames[i - 1].context : 0, f->site, f->function, i ? f->how : BEGAN, t->number);
	}
	topmost(t);
}

/* pair_in finds the next two words beside each other that were touched, from one on; 0 where there
 * are none. The runtime keeps beside each other where a stack ends and where it goes on. */
static uint64_t pair_in(const struct touched *x, uint32_t *from)
{
	for (uint32_t i = *from; i < x->n; i++)
		for (uint32_t k = 0; k < x->n; k++)
			if (x->at[k] == x->at[i] + 8) {
				*from = i + 1;
				return x->at[i];
			}
	*from = x->n;
	return 0;
}

/* leave keeps the stack of a goroutine to be gone on with, before the function that left it calls
 * what chooses another one: that may sleep, while another thread goes on with this one. */
static void leave(struct thread *t)
{
	uint32_t from = 0;
	uint64_t key;
	struct frame top = t->frames[t->n - 1];

	/* Words of another stack, with the same two beside each other, come later. */
	key = pair_in(&t->saved, &from);
	if (t->n > 1) {
		park(t->frames, t->n - 1, top.after, top.function == grows_stack, key);
		t->left_sp = t->frames[t->n - 2].sp;
		t->left_resume = top.after;
	}
	t->n = 0;
	push(t, (struct frame){.function = top.function, .how = BEGAN});
	rooted(t, 0);
}

/* adopt goes on with frames of a stack that was left. */
static void adopt(struct thread *t, struct frame *frames, size_t n)
{
	t->n = 0;
	for (size_t i = 0; i < n; i++)
		push(t, frames[i]);
	free(frames);
	rooted(t, 0);
	t->undecided = 0;
}

/* change goes from one goroutine's stack to another one's. */
static void change(struct thread *t, const struct block *b)
{
	struct frame *frames;
	size_t n;

	/* Which one it is, the runtime has just read. */
	if (t->resumed.n) {
		uint64_t key, resume = 0;
		uint32_t from = 0;

		frames = 0;
		n = 0;
		while (!n && (key = pair_in(&t->resumed, &from)))
			frames = unpark_key(key, &resume, &n);
		t->resumed.n = 0;
		if (n && resume == b->address) {
			adopt(t, frames, n);
			if (t->function != b->function)
				replace(t, b, 0);
			return;
		}
		free(frames); /* of one that has ended */
		if (b->address != b->function) /* it is not a new one */
			__atomic_fetch_add(&tables.head->broken, 1, __ATOMIC_RELAXED);
		t->n = 0;
		push(t, (struct frame){.function = b->function, .how = BEGAN});
		rooted(t, 0);
		t->undecided = 0;
		return;
	}
	/* Where a stack was made larger, or nothing else was to be done, it goes on with the same. */
	n = 0;
	frames = 0;
	if (t->left_resume == b->address && t->left_sp)
		frames = unpark_at(t->left_sp, &n);
	t->left_sp = t->left_resume = 0;
	if (n == 0)
		frames = unpark(b->address, &n);
	if (n == 0) {
		t->n = 0;
		push(t, (struct frame){.function = b->function, .how = BEGAN});
		rooted(t, 0);
		t->undecided = b->address == b->function ? 0 : b->address; /* else it is a new one */
		return;
	}
	adopt(t, frames, n);
	if (t->function != b->function)
		replace(t, b, 0);
}

/* arrive enters the function that was called. */
static void arrive(struct thread *t, const struct block *b)
{
	uint32_t calling = t->calling, c = 0;

	if (t->function && (t->function == leaves_stack || t->function == grows_stack))
		leave(t);
	begins_switch(t, b);
	uint64_t site = known[calling].last;

	if (t->n > MAX_DEPTH)
		for (size_t i = t->n; i-- > 1 && !c && i + MAX_DEPTH >= t->n;)
			if (t->frames[i].function == b->function && t->frames[i].site == site)
				c = t->frames[i].context;
	if (!c)
		c = context_of(t->context, site, b->function, CALLED, t->number);

	t->calling = 0;
	push(t, (struct frame){.sp = t->call_sp, .function = b->function, .site = site, .after = known[calling].after, .context = c, .how = CALLED});
	called_once(t, c);
}

/* move follows what leaves a function and is neither a call nor a return to it. */
static void move(struct thread *t, const struct block *b)
{
	struct block *last = &tables.blocks[t->last];
	struct frame *top = &t->frames[t->n - 1];

	if (is_handler(b->address) && !(last->ending == JUMPS && last->function == b->function)) {
		uint32_t c = context_of(t->context, known[t->last].last, b->function, SIGNALLED, t->number);

		push(t, (struct frame){.function = b->function, .site = known[t->last].last, .context = c, .how = SIGNALLED});
		called_once(t, c);
		return;
	}
	if (top->how == SIGNALLED && top->returned)
		return; /* what leads back to where the signal came */
	if (last->ending == JUMPS && goes_on(last->function) && !goes_on(b->function)) {
		change(t, b);
		return;
	}
	if (last->ending == JUMPS && b->address == b->function) {
		replace(t, b, 1);
		return;
	}
	/* Back into a function that has not returned: a long jump or an exception, which go where a
	 * register says. Any other jump stays in the function: this is a part of it that lies
	 * elsewhere. */
	for (size_t i = last->ending == JUMPS && last->branch != INDIRECT ? 0 : t->n; i-- > 0;)
		if (t->frames[i].function == b->function) {
			t->n = i + 1;
			topmost(t);
			return;
		}
	replace(t, b, 0);
}

/* pair_of finds the count of a block in a context, or makes it; 0 where there is no room. */
static uint32_t pair_of(struct thread *t, uint32_t context, uint32_t block, uint32_t most)
{
	struct index *x = &t->pairs;
	uint64_t hash = mixed(context, block);
	uint32_t at;

	for (uint32_t tries = 0; x->room && (at = x->slots[index_slot(x, hash, tries)]); tries++)
		if (tables.pairs[at].context == context && tables.pairs[at].block == block)
			return at;
	at = next(&tables.head->pairs, most);
	if (at) {
		tables.pairs[at] = (struct pair){.context = context, .block = block};
		index_add(x, at, hash_pair);
	}
	return at;
}

static void count(struct thread *t, uint32_t block)
{
	struct cached *c = &t->cache[(block ^ t->context * 40503u) % CACHED];
	uint32_t at;

	if (c->context == t->context && c->block == block) {
		c->pair->count++;
		t->pair = c->pair - tables.pairs;
		return;
	}
	t->pair = 0;
	at = pair_of(t, t->context, block, MAX_PAIRS - FLAT_PAIRS);
	if (at == 0) {
		/* It is told by its function alone. */
		uint32_t alone = context_of(0, 0, tables.blocks[block].function, ALONE, t->number);

		at = alone ? pair_of(t, alone, block, MAX_PAIRS) : 0;
		__atomic_fetch_add(at ? &tables.head->flat : &tables.head->uncounted, 1, __ATOMIC_RELAXED);
		if (at)
			tables.pairs[at].count++;
		t->pair = at;
		return;
	}
	tables.pairs[at].count++;
	t->pair = at;
	*c = (struct cached){t->context, block, &tables.pairs[at]};
}

/* leave_moved leaves the calls from one on, whose stack was moved as a whole, and has the others
 * where they are now. */
static void leave_moved(struct thread *t, size_t from, uint64_t sp)
{
	uint64_t by = sp - t->frames[from].sp;

	for (size_t i = 1; i < from; i++)
		if (t->frames[i].sp)
			t->frames[i].sp += by;
	t->n = from;
	topmost(t);
}

/* return_to leaves the nearest call that was to return to an address: of a stack that was moved,
 * the places of calls are not known any more. */
static void return_to(struct thread *t, uint64_t address, uint64_t sp)
{
	for (size_t i = t->n; i-- > 1;)
		if (t->frames[i].after == address) {
			leave_moved(t, i, sp);
			return;
		}
	if (t->undecided) {
		size_t n;
		struct frame *frames = unpark_after(t->undecided, address, &n);

		t->undecided = 0;
		if (n) {
			adopt(t, frames, n);
			if (t->n > 1)
				leave_moved(t, t->n - 1, sp);
		}
	}
}

static void predicted(struct thread *t, const struct block *to);

/* linked follows what the block before it ended with where calls leave the address to return to
 * in a register: a return goes to the nearest call that is to return there. */
static void linked(struct thread *t, const struct block *b)
{
	switch (tables.blocks[t->last].ending) {
	case CALLS:
		t->calling = t->last;
		t->call_sp = 0;
		break;
	case RETURNS:
		for (size_t i = t->n; i-- > 1;)
			if (t->frames[i].after == b->address) {
				t->n = i;
				topmost(t);
				return;
			}
		if (t->frames[t->n - 1].how == SIGNALLED)
			t->frames[t->n - 1].returned = 1;
		else
			__atomic_fetch_add(&tables.head->unmatched, 1, __ATOMIC_RELAXED);
		break;
	}
}

static void executed(unsigned vcpu, void *number)
{
	uint32_t block = (uintptr_t)number;
	const struct block *b = &tables.blocks[block];
	struct thread *t = self ? self : began(b);

	(void)vcpu;
	t->run++;
	if (modelled)
		predicted(t, b);
	if (t->unmatched) {
		uint64_t sp = t->unmatched;

		t->unmatched = 0;
		return_to(t, b->address, sp);
		if (b->function != t->function)
			__atomic_fetch_add(&tables.head->unmatched, 1, __ATOMIC_RELAXED);
	}
	if (processor == ARM64)
		linked(t, b);
	if (t->calling)
		arrive(t, b);
	else if (b->function != t->function)
		move(t, b);
	/* A repeated instruction is one, however often the emulator goes around it. */
	if (tables.blocks[t->last].ending == REPEATS && known[t->last].last == b->address && b->instructions == 1) {
		t->repeating = block;
		return;
	}
	t->repeating = 0;
	t->last = block;
	t->pair = 0;
	if (!t->outside)
		count(t, block);
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

/* predicted counts how the branch at the end of the block that was executed was predicted. */
static void predicted(struct thread *t, const struct block *to)
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

static void uncounted(unsigned vcpu, void *nothing)
{
	(void)vcpu, (void)nothing;
	__atomic_fetch_add(&tables.head->uncounted, 1, __ATOMIC_RELAXED);
}

/* What an instruction of a block does to memory is told once more where a later block makes an
 * access that the emulator has a function for; so it counts only while its own block runs. */
static void called(unsigned vcpu, qemu_plugin_meminfo_t info, uint64_t sp, void *number)
{
	struct thread *t = self;

	(void)vcpu;
	if (!t || t->last != (uintptr_t)number || !qemu_plugin_mem_is_store(info))
		return; /* a call through a pointer reads that, too */
	t->calling = (uintptr_t)number;
	t->call_sp = sp;
}

static void returned(unsigned vcpu, qemu_plugin_meminfo_t info, uint64_t sp, void *number)
{
	struct thread *t = self;

	(void)vcpu, (void)info;
	if (!t || t->last != (uintptr_t)number)
		return;
	t->unmatched = 0;
	for (size_t i = t->n; i-- > 1;) {
		uint64_t at = t->frames[i].sp;

		if (at == sp) {
			t->n = i;
			topmost(t);
			return;
		}
		if (at > sp && at - sp < SAME_STACK)
			break; /* what called before left its address further up */
	}
	if (t->undecided) {
		size_t n;
		struct frame *frames = unpark_at(sp, &n);

		if (n) {
			adopt(t, frames, n);
			if (t->n > 1)
				t->n--; /* it returns */
			topmost(t);
			return;
		}
	}
	if (t->frames[t->n - 1].how == SIGNALLED)
		t->frames[t->n - 1].returned = 1;
	else
		t->unmatched = sp;
}

/* switching keeps what the functions touch that change between goroutines' stacks. */
static void switching(unsigned vcpu, qemu_plugin_meminfo_t info, uint64_t address, void *number)
{
	struct thread *t = self;
	int store = qemu_plugin_mem_is_store(info);
	struct touched *x;

	(void)vcpu;
	if (!t || t->last != (uintptr_t)number)
		return;
	x = store ? &t->saved : &t->resumed;
	if (store == goes_on(tables.blocks[t->last].function) || x->n == sizeof(x->at) / sizeof(*x->at))
		return;
	x->at[x->n++] = address;
}

static void translated(plugin_id id, struct qemu_plugin_tb *tb)
{
	uint32_t at = add_block(tb, processor);
	struct qemu_plugin_insn *last;

	(void)id;
	if (at == 0) {
		qemu_plugin_register_vcpu_tb_exec_cb(tb, uncounted, NO_REGISTERS, 0);
		return;
	}
	qemu_plugin_register_vcpu_tb_exec_cb(tb, executed, NO_REGISTERS, (void *)(uintptr_t)at);
	last = qemu_plugin_tb_get_insn(tb, qemu_plugin_tb_n_insns(tb) - 1);
	uint64_t function = tables.blocks[at].function;
	if (function && (function == leaves_stack || function == grows_stack || goes_on(function)))
		for (size_t i = 0; i < qemu_plugin_tb_n_insns(tb); i++)
			qemu_plugin_register_vcpu_mem_cb(qemu_plugin_tb_get_insn(tb, i), switching, NO_REGISTERS, ACCESSES, (void *)(uintptr_t)at);
	for (size_t i = 0; remembers && i < qemu_plugin_tb_n_insns(tb); i++)
		qemu_plugin_register_vcpu_mem_cb(qemu_plugin_tb_get_insn(tb, i), accessed, NO_REGISTERS, ACCESSES, (void *)((uintptr_t)at << INSTRUCTION_BITS | i));
	if (processor != X86_64)
		return; /* its calls and returns touch no memory */
	if (tables.blocks[at].ending == CALLS)
		qemu_plugin_register_vcpu_mem_cb(last, called, NO_REGISTERS, ACCESSES, (void *)(uintptr_t)at);
	if (tables.blocks[at].ending == RETURNS)
		qemu_plugin_register_vcpu_mem_cb(last, returned, NO_REGISTERS, ACCESSES, (void *)(uintptr_t)at);
}

/* The system calls that matter here, by their numbers on each processor. */
enum call { MAPS, SIGNALS, RETURNS_FROM_SIGNAL, EXECUTES, EXECUTES_AT, OTHER };

static enum call call_of(int64_t number)
{
	static const struct {
		int64_t number[2]; /* of x86-64 and of arm64 */
		enum call call;
	} known_calls[] = {
		{{9, 222}, MAPS}, {{10, 226}, MAPS}, {{11, 215}, MAPS}, {{25, 216}, MAPS}, {{13, 134}, SIGNALS}, {{15, 139}, RETURNS_FROM_SIGNAL}, {{59, 221}, EXECUTES}, {{322, 281}, EXECUTES_AT},
	};

	for (size_t i = 0; i < sizeof(known_calls) / sizeof(*known_calls); i++)
		if (known_calls[i].number[processor == ARM64] == number)
			return known_calls[i].call;
	return OTHER;
}

static void system_call(plugin_id id, unsigned vcpu, int64_t number, uint64_t a, uint64_t b, uint64_t c, uint64_t d, uint64_t e, uint64_t f, uint64_t g, uint64_t h)
{
	struct thread *t = self;

	(void)id, (void)vcpu, (void)f, (void)g, (void)h;
	if (tables.head->ended == LEFT)
		tables.head->ended = RUNNING;
	switch (call_of(number)) {
	case MAPS:
		changed();
		break;
	case SIGNALS:
		if (b != 0) {
			uint64_t handler = *(uint64_t *)guest(b);

			if (handler > 1 && !is_handler(handler)) {
				uint32_t at = handler_n;

				if (at < MAX_HANDLERS) {
					handlers[at] = handler;
					__atomic_store_n(&handler_n, at + 1, __ATOMIC_RELEASE);
				}
			}
		}
		break;
	case RETURNS_FROM_SIGNAL:
		for (size_t i = t ? t->n : 0; i-- > 1;)
			if (t->frames[i].how == SIGNALLED) {
				t->n = i;
				topmost(t);
				break;
			}
		break;
	case EXECUTES:
		execute(a, b, c);
		break;
	case EXECUTES_AT:
		/* Where the folder matters, the path alone is not the program's. */
		if (e == 0 && ((int)a == AT_FDCWD || *(char *)guest(b) == '/'))
			execute(b, c, d);
		else
			leave_for();
		break;
	case OTHER:
		break;
	}
}

/* in_child counts on in a child process, from nothing; what it was called by is known. */
static void in_child(void)
{
	struct thread *t = self;

	forked();
	threads = 0;
	if (!t)
		return;
	t->number = __atomic_add_fetch(&threads, 1, __ATOMIC_RELAXED);
	memset(t->cache, 0, sizeof(t->cache));
	t->pair = 0;
	if (t->nearby)
		memset(t->nearby, 0, NEARBY * sizeof(*t->nearby));
	index_clear(&t->contexts);
	index_clear(&t->pairs);
	for (size_t i = 0; i < t->n; i++) {
		struct frame *f = &t->frames[i];

		f->context = context_of(i ? t->frames[i - 1].context : 0, f->site, f->function, f->how, t->number);
	}
	topmost(t);
}

static void ended(plugin_id id, void *nothing)
{
	(void)id, (void)nothing;
	tables.head->ended = EXITED;
}

EXPORTED int qemu_plugin_install(plugin_id id, const qemu_info_t *info, int n, char **words)
{
	const char *folder = 0, *further = 0;

	for (int i = 0; i < n; i++) {
		if (strncmp(words[i], "folder=", 7) == 0)
			folder = words[i] + 7;
		if (strcmp(words[i], "memory=on") == 0)
			remembers = 1;
		if (strncmp(words[i], "models=", 7) == 0) {
			if (!models_read(words[i] + 7))
				return -1;
			remembers = 1;
			further = words[i];
		}
	}
	if (info->system_emulation || !folder || !opened(folder) || !code_opened())
		return -1;
	processor = strcmp(info->target_name, "aarch64") == 0 ? ARM64 : X86_64;
	execute_by(folder, processor == ARM64 ? EM_AARCH64 : EM_X86_64, further ? further : remembers ? "memory=on" : "");
	if (!part_read(folder))
		return -1;
	if (pthread_key_create(&ends, let_go) != 0)
		return -1;
	pthread_atfork(0, 0, in_child);
	qemu_plugin_register_vcpu_tb_trans_cb(id, translated);
	qemu_plugin_register_vcpu_syscall_cb(id, system_call);
	qemu_plugin_register_atexit_cb(id, ended, 0);
	return 0;
}
