/* Follows calls and returns. On x86-64 a call is known by the address at which it leaves where to
 * return to, and a return belongs to the nearest call that left its address there: whatever is in
 * between was left by a long jump or an exception. On arm64 that address is in a register, so a
 * return goes to the nearest call that is to return there. */
#pragma once

#include "api.h"
#include "thread.h"

/* follows watches the call or the return at the end of a block. */
void follows(const struct qemu_plugin_tb *, uint32_t block, enum processor);

/* follow goes on with a block, after the one that its thread executed last. */
void follow(struct thread *, const struct block *, enum processor);

/* replace has another function go on in the place of the innermost one, which returns to where that
 * would have. */
void replace(struct thread *, const struct block *, int call);

/* handles notes that a function handles signals, and handled that the innermost one has: what it
 * interrupted goes on. */
void handles(uint64_t function);
void handled(struct thread *);
