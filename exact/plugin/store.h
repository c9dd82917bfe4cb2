#pragma once

#include <pthread.h>

#include "record.h"

/* The tables of this process. */
struct tables {
	struct header *head;
	struct mapping *mappings;
	struct block *blocks;
	struct context *contexts;
	struct pair *pairs;
	uint8_t *bytes;
	struct cell *cells;
};

extern struct tables tables;

/* opened makes the file of a process in a folder; it returns 0 where that cannot be. */
int opened(const char *folder);

/* executes says which program the process executes. */
void executes(const char *program);

/* forked gives a child a file of its own: the code is known, and nothing is counted yet. */
void forked(void);

/* add_bytes keeps bytes, and returns where; 0 where there is no room. */
uint32_t add_bytes(const void *from, uint32_t n);

/* next takes one more entry of a table; 0 where there is no room. */
uint32_t next(uint32_t *used, uint32_t most);
