// handoffs has two threads that hand a byte to each other through pipes, in a chain: each handoff is
// three system calls or waits on the way of the next. It prints how long each part took, in seconds.
//
//	handoffs PARTS HANDOFFS WORK
#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <time.h>
#include <unistd.h>

static int there[2], back[2], parts, each;
static long work;
static volatile unsigned long sink;

static void compute(void)
{
	unsigned long s = sink;

	for (long i = 0; i < work; i++)
		s = s * 6364136223846793005ul + 1442695040888963407ul;
	sink = s;
}

static void *peer(void *unused)
{
	char c;

	for (int i = 0; i < parts * each && read(there[0], &c, 1) == 1; i++) {
		compute();
		if (write(back[1], &c, 1) != 1)
			break;
	}
	return unused;
}

int main(int argc, char **argv)
{
	pthread_t other;
	struct timespec begin, end;
	char c = 'x';

	if (argc != 4 || pipe(there) != 0 || pipe(back) != 0)
		return 1;
	parts = atoi(argv[1]);
	each = atoi(argv[2]);
	work = atol(argv[3]);
	if (pthread_create(&other, 0, peer, 0) != 0)
		return 1;
	for (int p = 0; p < parts; p++) {
		clock_gettime(CLOCK_MONOTONIC, &begin);
		for (int i = 0; i < each; i++) {
			compute();
			if (write(there[1], &c, 1) != 1 || read(back[0], &c, 1) != 1)
				return 1;
		}
		clock_gettime(CLOCK_MONOTONIC, &end);
		printf("%.6f\n", end.tv_sec - begin.tv_sec + (end.tv_nsec - begin.tv_nsec) / 1e9);
	}
	pthread_join(other, 0);
	return 0;
}
