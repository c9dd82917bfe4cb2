// A library for programs in other languages: work of its own, and a function
// that calls back.
#include "truth.h"

NOINLINE double ink(long n) {
	double x = 1;
	for (long i = 0; i < n; i++) x = sqrt(x * 1.0001 + i);
	return x;
}

NOINLINE long compare(long (*weigh)(long, long), long n) {
	long x = 0;
	for (long i = 0; i < n; i++) {
		x += weigh(i, n - i);
		KEEP;
	}
	return x;
}
