#include "goroutine.h"

#include <stdlib.h>

#include "follow.h"
#include "store.h"

int leaves(uint64_t function)
{
	return function && (function == leaves_stack || function == grows_stack);
}

int goes_on(uint64_t function)
{
	return function && (function == goes_on_with_stack[0] || function == goes_on_with_stack[1]);
}

void begins_switch(struct thread *t, const struct block *b)
{
	if (leaves(b->function))
		t->saved.n = 0;
	else if (goes_on(b->function) && !goes_on(t->function))
		t->resumed.n = 0;
}

/* touched keeps where these functions write, or read. */
static void touched(unsigned vcpu, qemu_plugin_meminfo_t info, uint64_t address, void *number)
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

void switches(const struct qemu_plugin_tb *tb, uint32_t block)
{
	uint64_t function = tables.blocks[block].function;

	if (leaves(function) || goes_on(function))
		for (size_t i = 0; i < qemu_plugin_tb_n_insns(tb); i++)
			qemu_plugin_register_vcpu_mem_cb(qemu_plugin_tb_get_insn(tb, i), touched, NO_REGISTERS, ACCESSES, (void *)(uintptr_t)block);
}

/* pair_in finds the next two words beside each other that were touched, from one on; 0 where there
 * are none. */
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

void leave(struct thread *t)
{
	uint32_t from = 0;
	struct frame top = t->frames[t->n - 1];
	/* Words of another stack, with the same two beside each other, come later. */
	uint64_t key = pair_in(&t->saved, &from);

	if (t->n > 1 && key)
		park(key, t->frames, t->n - 1, top.after);
	t->n = 0;
	push(t, (struct frame){.function = top.function, .how = BEGAN});
	rooted(t);
}

void change(struct thread *t, const struct block *b)
{
	struct frame *frames = 0;
	uint64_t key, resume = 0;
	uint32_t from = 0;
	size_t n = 0;

	while (!n && (key = pair_in(&t->resumed, &from)))
		frames = unpark(key, &resume, &n);
	t->resumed.n = 0;
	if (resume != b->address)
		n = 0; /* of one that has ended: this is another one with its record */
	if (n == 0 && b->address != b->function) /* nor is it a new one */
		__atomic_fetch_add(&tables.head->broken, 1, __ATOMIC_RELAXED);
	t->n = 0;
	for (size_t i = 0; i < n; i++)
		push(t, frames[i]);
	free(frames);
	if (n == 0)
		push(t, (struct frame){.function = b->function, .how = BEGAN});
	rooted(t);
	if (t->function != b->function)
		replace(t, b, 0);
}
