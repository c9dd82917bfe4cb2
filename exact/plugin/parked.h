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

/* park keeps the frames of a stack that goes on at an address; again says that the innermost
 * function begins once more there. key is where the runtime keeps where that stack goes on, 0
 * where that is not known. */
void park(const struct frame *frames, size_t n, uint64_t resume, int again, uint64_t key);

/* unpark_key takes the stack with a key, and says where it was to go on. */
struct frame *unpark_key(uint64_t key, uint64_t *resume, size_t *n);

/* unpark takes the stack that was left last of those whose innermost function begins once more at
 * an address. Which of others it is shows when their innermost function returns: unpark_at takes
 * the stack whose innermost call left the address to return to there. The frames are the caller's to free; n is 0 where there
 * is none. */
struct frame *unpark(uint64_t resume, size_t *n);
struct frame *unpark_at(uint64_t sp, size_t *n);

/* unpark_after takes the stack that was left last among those that go on at an address and whose
 * innermost call returns to another: a stack may have been moved meanwhile. */
struct frame *unpark_after(uint64_t resume, uint64_t after, size_t *n);
