#include "follow.h"

#include "goroutine.h"
#include "part.h"
#include "store.h"

enum { MAX_HANDLERS = 1024, SAME_STACK = 1 << 16 };

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

void handles(uint64_t function)
{
	uint32_t at = handler_n;

	if (function <= 1 || is_handler(function) || at >= MAX_HANDLERS)
		return;
	handlers[at] = function;
	__atomic_store_n(&handler_n, at + 1, __ATOMIC_RELEASE);
}

void handled(struct thread *t)
{
	for (size_t i = t ? t->n : 0; i-- > 1;)
		if (t->frames[i].how == SIGNALLED) {
			t->n = i;
			topmost(t);
			return;
		}
}

void replace(struct thread *t, const struct block *b, int call)
{
	struct frame *f = &t->frames[t->n - 1];
	uint32_t parent = t->n > 1 ? t->frames[t->n - 2].context : 0;

	if (t->n > 1 || call)
		f->context = context_of(parent, f->site, b->function, t->n > 1 ? JUMPED : BEGAN, t->number);
	f->function = b->function;
	if (call)
		begins_switch(t, b);
	if (parted)
		inside(f, 0);
	topmost(t);
	if (call)
		called_once(t, f->context);
}

/* expected is the context that was called from here the last time, if it is the one of this call;
 * 0 where it is not. A call that had no room then has none now. */
static uint32_t expected(const struct thread *t, uint64_t site, uint64_t function)
{
	const struct pair *before = &tables.pairs[t->before];
	uint32_t at = tables.pairs[before->next].context;
	const struct context *c = &tables.contexts[at];

	if (c->function != function)
		return 0;
	if (c->how == CALLED && c->site == site && c->parent == t->context)
		return at;
	if (c->how == ALONE && before->block == t->calling && before->context == t->context) {
		merged();
		return at;
	}
	return 0;
}

/* arrive enters the function that was called. */
static void arrive(struct thread *t, const struct block *b)
{
	uint32_t calling = t->calling, c = 0;

	if (leaves(t->function))
		leave(t);
	begins_switch(t, b);
	uint64_t site = known[calling].last;

	if (t->n > MAX_DEPTH)
		for (size_t i = t->n; i-- > 1 && !c && i + MAX_DEPTH >= t->n;)
			if (t->frames[i].function == b->function && t->frames[i].site == site)
				c = t->frames[i].context;
	if (!c)
		c = expected(t, site, b->function);
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
}

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

void follow(struct thread *t, const struct block *b, enum processor processor)
{
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
	if (t->frames[t->n - 1].how == SIGNALLED)
		t->frames[t->n - 1].returned = 1;
	else
		t->unmatched = sp;
}

void follows(const struct qemu_plugin_tb *tb, uint32_t block, enum processor processor)
{
	struct qemu_plugin_insn *last = qemu_plugin_tb_get_insn(tb, qemu_plugin_tb_n_insns(tb) - 1);

	if (processor != X86_64)
		return; /* its calls and returns touch no memory */
	if (tables.blocks[block].ending == CALLS)
		qemu_plugin_register_vcpu_mem_cb(last, called, NO_REGISTERS, ACCESSES, (void *)(uintptr_t)block);
	if (tables.blocks[block].ending == RETURNS)
		qemu_plugin_register_vcpu_mem_cb(last, returned, NO_REGISTERS, ACCESSES, (void *)(uintptr_t)block);
}
