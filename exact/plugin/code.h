#pragma once

#include "api.h"
#include "record.h"

enum processor { X86_64, ARM64 };

/* What is known of a block in this process alone. */
struct known {
	uint64_t last; /* the address of its last instruction */
	uint64_t after;
};

extern struct known *known;

int code_opened(void);

/* Where the program's addresses begin in this process. */
extern uint64_t guest_base;

/* add_block keeps a run of instructions and returns its number, 0 where there is no room. */
uint32_t add_block(const struct qemu_plugin_tb *, enum processor);

/* Where the functions lie that change between goroutines' stacks, 0 where there are none. */
extern uint64_t leaves_stack, grows_stack, goes_on_with_stack[2];

/* changed says that files may lie elsewhere now. */
void changed(void);
