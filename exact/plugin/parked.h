/* Stacks that a thread has left to be gone on with, by any thread: those of goroutines. */
#pragma once

#include <stddef.h>
#include <stdint.h>

/* A call that has not returned. */
struct frame {
	uint64_t sp;       /* where the address to return to is, 0: not known */
	uint64_t function, site;
	uint64_t after;    /* the address to return to, 0: not known */
	uint32_t context;
	uint8_t how;
	uint8_t inside;    /* enum inside: of the part of the run that counts */
	uint16_t returned; /* of a signal's handler: it has, but what it interrupted does not go on yet */
};

/* park keeps the frames of a stack that goes on at an address, by where the runtime keeps that. */
void park(uint64_t key, const struct frame *frames, size_t n, uint64_t resume);

/* unpark takes the stack with a key, and says where it was to go on. The frames are the caller's to
 * free; n is 0 where there is none. */
struct frame *unpark(uint64_t key, uint64_t *resume, size_t *n);
