/* Which part of a run counts: all of it, or what some calls of some functions do. */
#pragma once

#include <stdint.h>

/* Whether a call is inside the part that counts. */
enum inside { OUTSIDE, COUNTED, SKIPPED };

/* part_read reads what is wanted from a file beside the folder of the counts: how many calls are
 * skipped, how many count then (0: all that follow), and where the functions begin, as places in
 * files. Without that file all of a run counts. It returns 0 where the file cannot be
 * understood. */
int part_read(const char *folder);

/* parted says that only a part of the run counts. */
extern int parted;

/* part_learn notes where functions of the part lie, when a file is mapped. */
void part_learn(const char *path, uint64_t offset, uint64_t start, uint64_t end);

/* part_begins says whether a call of a function may begin the part, and part_enter whether this
 * one does: calls are numbered. */
int part_begins(uint64_t function);
enum inside part_enter(void);
