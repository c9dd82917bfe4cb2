// A recursion that is ten thousand calls deep, which no copy of a stack holds,
// beside one of two hundred, which must be whole.
#include "truth.h"

// stack shallows: ... < shallow < shallows < main

NOINLINE double ink(double x, int n) {
	for (int i = 0; i < n; i++) x = sqrt(x * 1.0001 + i);
	return x;
}

NOINLINE double shallow(double x, int depth) {
	double y = ink(x, 300);
	KEEP;
	y += depth ? shallow(y, depth - 1) : 1;
	KEEP;
	return y;
}

NOINLINE double descend(double x, int depth) {
	double y = ink(x, 20);
	KEEP;
	y += depth ? descend(y, depth - 1) : 1;
	KEEP;
	return y;
}

NOINLINE double shallows(void) {
	double x = 0;
	for (int i = 0; i < 10; i++) x += shallow(i, 200);
	return x;
}

NOINLINE double deeps(void) {
	double x = descend(1, 10000);
	KEEP;
	return x;
}

int main(int argc, char **argv) {
	nanos end = budget(argc, argv);
	while (cpu(CLOCK_PROCESS_CPUTIME_ID) < end) {
		PART(shallow, sink = shallows());
		PART(descend, sink = deeps());
	}
	report();
	return 0;
}
