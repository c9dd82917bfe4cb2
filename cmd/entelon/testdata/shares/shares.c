// Spends 70 and 30 of 100 parts of its processor time in two functions and
// measures both itself, by the thread's own clock. Prints the first's share.
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <time.h>

static double now(void) {
	struct timespec t;
	clock_gettime(CLOCK_THREAD_CPUTIME_ID, &t);
	return t.tv_sec + t.tv_nsec * 1e-9;
}

volatile uint64_t sink;

__attribute__((noinline)) void space_measures(long n) {
	for (long i = 0; i < n; i++) sink = sink * 31 + i;
}

__attribute__((noinline)) void group_beams(long n) {
	for (long i = 0; i < n; i++) sink = sink * 17 + i;
}

__attribute__((noinline)) double timed(void (*work)(long), double seconds) {
	double begin = now(), end = begin;
	while (end - begin < seconds) {
		work(300000);
		end = now();
	}
	return end - begin;
}

int main(int argc, char **argv) {
	double seconds = argc > 1 ? atof(argv[1]) : 2, a = 0, b = 0;
	for (int i = 0; i < 20; i++) {
		a += timed(space_measures, seconds * 0.7 / 20);
		b += timed(group_beams, seconds * 0.3 / 20);
	}
	printf("%.6f\n", a / (a + b));
	return 0;
}
