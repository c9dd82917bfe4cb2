// What the C and C++ programs of truth share. Each spends its time in a few
// parts, measures each part with the thread's CPU clock, and prints at the end
//
//	part NAME NANOSECONDS
//
// for each of them; "A-B" is the time in A but not in B. A comment
// "stack NAME: inner < NAME < outer" says what must stand around the function
// NAME in every stack that it is in: "~" behind a name that it is inlined,
// "..." that anything may be between.
#pragma once
#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

#define NOINLINE __attribute__((noinline))
#define INLINED static inline __attribute__((always_inline))
// Behind a call, so that it does not become a jump.
#define KEEP __asm__ volatile("" ::: "memory")

typedef long long nanos;

static NOINLINE nanos cpu(clockid_t id) {
	struct timespec t;
	clock_gettime(id, &t);
	return t.tv_sec * 1000000000LL + t.tv_nsec;
}

static volatile double sink;

#define MAX_PARTS 8
static struct {
	const char *name;
	nanos spent;
} parts[MAX_PARTS];

static void spent(const char *name, nanos t) {
	for (int i = 0; i < MAX_PARTS; i++) {
		if (!parts[i].name) parts[i].name = name;
		if (!strcmp(parts[i].name, name)) {
			parts[i].spent += t;
			return;
		}
	}
}

static void report(void) {
	for (int i = 0; i < MAX_PARTS && parts[i].name; i++) printf("part %s %lld\n", parts[i].name, parts[i].spent);
	fflush(stdout);
}

// PART runs a call and adds its time.
#define PART(name, call)                                    \
	do {                                                    \
		nanos t0_ = cpu(CLOCK_THREAD_CPUTIME_ID);           \
		call;                                               \
		spent(#name, cpu(CLOCK_THREAD_CPUTIME_ID) - t0_);   \
	} while (0)

// The seconds of processor time that the program is to use.
static nanos budget(int argc, char **argv) { return (nanos)((argc > 1 ? atof(argv[1]) : 1.0) * 1e9); }
