// Spends its time on two lines, which are marked: the costly one and the loop around
// it. No line beside them may have more than chance gives.
#include <stdio.h>
#include <stdlib.h>

static double __attribute__((noinline)) press(long n)
{
	double ink = 1;

	for (long i = 0; i < n; i++) { // hot

		ink += 1 / (ink + (double)i) + 1 / (ink + 2); // hot

	}

	return ink;
}

int main(int argc, char **argv)
{
	double all = 0;
	for (int round = 0; round < 40; round++)
		all += press(argc > 1 ? atol(argv[1]) : 2000000);
	printf("%g\n", all);
	return 0;
}
