/* How often blocks are executed in contexts, and what their instructions do to memory. */
#pragma once

#include "api.h"
#include "thread.h"

/* remembers says that accesses to memory are counted. */
extern int remembers;

/* count counts a block in the context in which its thread is. */
void count(struct thread *, uint32_t block);

/* watched has the accesses of a block's instructions counted, where that is wanted. */
void watched(const struct qemu_plugin_tb *, uint32_t block);

/* predicted counts how the branch at the end of the block that was executed was predicted. */
void predicted(struct thread *, const struct block *to);

/* uncounted counts a block that has no room. */
void uncounted(unsigned vcpu, void *nothing);
