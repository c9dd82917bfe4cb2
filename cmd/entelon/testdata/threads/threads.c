// Two threads that do a fixed amount of work each; prints the wall time in
// seconds that both took together. Given a second argument, threads come and
// go: that many short ones, each with a name of its own.
#include <pthread.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/prctl.h>
#include <time.h>

static long rounds;
volatile uint64_t seed = 1;

__attribute__((noinline)) uint64_t raster(uint64_t n) {
	uint64_t s = seed;
	for (uint64_t i = 0; i < n; i++) s = s * 6364136223846793005ull + 1442695040888963407ull;
	return s;
}

static void *worker(void *name) {
	uint64_t s = 0;
	prctl(PR_SET_NAME, (char *)name);
	for (long i = 0; i < rounds; i++) s += raster(100000);
	return (void *)s;
}

int main(int argc, char **argv) {
	struct timespec a, b;
	pthread_t t[2];
	rounds = argc > 1 ? atol(argv[1]) : 2000;
	int shorts = argc > 2 ? atoi(argv[2]) : 0;
	clock_gettime(CLOCK_MONOTONIC, &a);
	if (shorts) {
		for (int i = 0; i < shorts; i++) {
			char name[16];
			snprintf(name, sizeof name, "short-%d", i);
			pthread_create(&t[0], 0, worker, name);
			pthread_join(t[0], 0);
		}
	} else {
		pthread_create(&t[0], 0, worker, "fill-1");
		pthread_create(&t[1], 0, worker, "fill-2");
		pthread_join(t[0], 0);
		pthread_join(t[1], 0);
	}
	clock_gettime(CLOCK_MONOTONIC, &b);
	printf("%.6f\n", (b.tv_sec - a.tv_sec) + (b.tv_nsec - a.tv_nsec) * 1e-9);
	return 0;
}
