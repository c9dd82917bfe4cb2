// Engravers at one desk: they wait for the only burin (a lock), for ink to dry
// (sleep), for the next sheet (a pipe) and for each other. Each notes for how
// long, and the whole is printed as "NAME SECONDS".
#include <pthread.h>
#include <stdio.h>
#include <time.h>
#include <unistd.h>

static pthread_mutex_t burin = PTHREAD_MUTEX_INITIALIZER;
static int sheets[2];
static double waited[4], dried[4], fed;

static double now(void) {
	struct timespec t;
	clock_gettime(CLOCK_MONOTONIC, &t);
	return t.tv_sec + t.tv_nsec / 1e9;
}

// Holding the burin is sleeping, too, so that the engravers need no processor
// and what they wait for is the lock alone.
__attribute__((noinline)) static void hold(void) {
	struct timespec t = {0, 4000000};
	nanosleep(&t, 0);
}

__attribute__((noinline)) static void fetch(int i) {
	double b = now();
	pthread_mutex_lock(&burin);
	waited[i] += now() - b;
	hold();
	pthread_mutex_unlock(&burin);
}

__attribute__((noinline)) static void dry(int i) {
	struct timespec t = {0, 6000000};
	double b = now();
	nanosleep(&t, 0);
	dried[i] += now() - b;
}

static void *engrave(void *a) {
	int i = (int)(long)a;
	for (int k = 0; k < 60; k++) {
		fetch(i);
		dry(i);
	}
	return 0;
}

__attribute__((noinline)) static void feed(void) {
	char c;
	double b = now();
	for (int k = 0; k < 40; k++)
		if (read(sheets[0], &c, 1) != 1) break;
	fed = now() - b;
}

static void *reader(void *a) { feed(); return a; }

int main(void) {
	pthread_t t[4], r;
	if (pipe(sheets)) return 1;
	pthread_create(&r, 0, reader, 0);
	for (long i = 0; i < 4; i++) pthread_create(&t[i], 0, engrave, (void *)i);
	struct timespec step = {0, 20000000};
	for (int k = 0; k < 40; k++) {
		nanosleep(&step, 0);
		if (write(sheets[1], "x", 1) != 1) return 1;
	}
	for (int i = 0; i < 4; i++) pthread_join(t[i], 0);
	pthread_join(r, 0);
	double w = 0, d = 0;
	for (int i = 0; i < 4; i++) w += waited[i], d += dried[i];
	printf("fetch %.6f\ndry %.6f\nfeed %.6f\n", w, d, fed);
	return 0;
}
