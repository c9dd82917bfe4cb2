// A library that comes and goes: the same file name of a function in two
// libraries that are mapped at the same place, one after the other.
#include <math.h>

#define NAME_(a, b) a##b
#define NAME(a, b) NAME_(a, b)

static __attribute__((noinline)) double NAME(work_, WHICH)(double x, int n) {
	for (int i = 0; i < n; i++) x = sqrt(x * 1.0001 + i);
	return x;
}

double play(int n) {
	double x = NAME(work_, WHICH)(WHICH, n);
	__asm__ volatile("" ::: "memory");
	return x;
}
