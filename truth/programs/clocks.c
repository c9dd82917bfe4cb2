// Calls into the code that the kernel maps into every process, and through the
// linkage table into a library, bound when first called.
#include "truth.h"

// stack asks: ... < asks < main
// stack powers: ... < powers < main

NOINLINE double asks(void) {
	double x = 0;
	struct timespec t;
	for (int i = 0; i < 60000; i++) {
		clock_gettime(CLOCK_MONOTONIC, &t);
		x += t.tv_nsec;
	}
	return x;
}

NOINLINE double powers(double x) {
	for (int i = 0; i < 40000; i++) x = pow(x + i, 0.37) + exp(-x);
	return x;
}

int main(int argc, char **argv) {
	nanos end = budget(argc, argv);
	while (cpu(CLOCK_PROCESS_CPUTIME_ID) < end) {
		PART(asks, sink = asks());
		PART(powers, sink = powers(3));
	}
	report();
	return 0;
}
