/* Goroutines change stacks by functions of the Go runtime: one leaves a stack, another goes on with
 * one. Which one that is shows in the runtime's record of the goroutine, where the first writes
 * where the stack ends and where it goes on, beside each other, and the second reads both. */
#pragma once

#include "api.h"
#include "thread.h"

/* switches watches the instructions of a block, where it is of one of these functions. */
void switches(const struct qemu_plugin_tb *, uint32_t block);

/* begins_switch forgets what was touched by the switch before, where a block begins one. */
void begins_switch(struct thread *, const struct block *);

/* leaves reports whether a function leaves its stack by the next call, and goes_on whether it goes
 * on with another one by a jump. */
int leaves(uint64_t function);
int goes_on(uint64_t function);

/* leave keeps the stack of a goroutine to be gone on with, before the function that left it calls
 * what chooses another one: that may sleep, while another thread goes on with this one. */
void leave(struct thread *);

/* change goes on with another goroutine's stack, in a block. */
void change(struct thread *, const struct block *);
