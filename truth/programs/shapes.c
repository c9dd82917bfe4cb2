// Calls of every ordinary shape: direct, mutually recursive, from the C
// library's sort, inlined three deep, through a pointer, with a frame of a size
// known only at run time, and with one that is aligned.
#include "truth.h"
#include <alloca.h>

// stack level: ink < level < spaces < main
// stack beams: ... < beam_odd < beams < main
// stack by_height: by_height < ... < slurs < main
// stack flatten: flatten~ < fill~ < draw~ < pages < main
// stack syllables: ink < syllables < lyrics < main
// stack outline: ink < outline < glyphs < main

NOINLINE double ink(double x, int n) {
	for (int i = 0; i < n; i++) x = sqrt(x * 1.0001 + i);
	return x;
}

NOINLINE double level(double x, int n) {
	x = ink(x, n);
	KEEP;
	return x + 1;
}

NOINLINE double spaces(double x) {
	for (int i = 0; i < 40; i++) {
		x = level(x, 6000);
		KEEP;
	}
	return x;
}

double beam_odd(double x, int depth);

NOINLINE double beam_even(double x, int depth) {
	x = depth ? beam_odd(x, depth - 1) : 1;
	KEEP;
	return x + depth;
}

NOINLINE double beam_odd(double x, int depth) {
	double y = ink(x, 900);
	KEEP;
	y += depth ? beam_even(y, depth - 1) : 0;
	KEEP;
	return y;
}

NOINLINE double beams(double x) {
	for (int i = 0; i < 8; i++) {
		x = beam_odd(x, 39);
		KEEP;
	}
	return x;
}

NOINLINE int by_height(const void *a, const void *b) {
	double x = *(const double *)a, y = *(const double *)b;
	for (int i = 0; i < 30; i++) x = sqrt(x + 1e-9), y = sqrt(y + 1e-9), x = x * x, y = y * y;
	return (x > y) - (x < y);
}

static double heights[4096];

NOINLINE double slurs(void) {
	unsigned seed = 7;
	for (int i = 0; i < 1400; i++) heights[i] = (seed = seed * 1103515245 + 12345) % 100003;
	qsort(heights, 1400, sizeof *heights, by_height);
	KEEP;
	return heights[700];
}

INLINED double flatten(double x, int n) {
	for (int i = 0; i < n; i++) x = sqrt(x * 1.0002 + i) + 1 / (x + 1);
	return x;
}

INLINED double fill(double x, int n) {
	double y = 0;
	for (int i = 0; i < 60; i++) y += flatten(x + i, n);
	return y;
}

INLINED double draw(double x, int n) { return fill(x, n) + fill(x + 1, n); }

NOINLINE double pages(double x) { return draw(x, 1100); }

static NOINLINE double syllables(double x, int n) {
	x = ink(x, n);
	KEEP;
	return x * 2;
}

static double (*volatile placed)(double, int) = syllables;

NOINLINE double lyrics(double x) {
	for (int i = 0; i < 30; i++) {
		x = placed(x, 4000);
		KEEP;
	}
	return x;
}

// outline has a frame of a size that is known only at run time, and glyphs one
// that must be aligned to more than the stack is.
NOINLINE double outline(double x, int n) {
	volatile char *room = (volatile char *)alloca((size_t)(n % 97) * 16 + 64);
	room[0] = 1;
	x = ink(x, n);
	KEEP;
	return x + room[0];
}

NOINLINE double glyphs(double x) {
	double wide[8] __attribute__((aligned(64)));
	__asm__ volatile("" ::"r"(wide) : "memory");
	wide[0] = x;
	for (int i = 0; i < 20; i++) {
		wide[i % 8] = outline(wide[(i + 7) % 8], 3500 + i);
		KEEP;
	}
	return wide[0];
}

int main(int argc, char **argv) {
	nanos end = budget(argc, argv);
	while (cpu(CLOCK_PROCESS_CPUTIME_ID) < end) {
		PART(spaces, sink = spaces(1));
		PART(beams, sink = beams(2));
		PART(slurs, sink = slurs());
		PART(pages, sink = pages(3));
		PART(lyrics, sink = lyrics(4));
		PART(glyphs, sink = glyphs(5));
	}
	report();
	return 0;
}
