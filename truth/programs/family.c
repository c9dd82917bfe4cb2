// Processes that fork, and that become another program; and threads that live
// for a few milliseconds. Children print their own parts, which are added up.
#define _GNU_SOURCE
#include "truth.h"
#include <pthread.h>
#include <sys/wait.h>
#include <unistd.h>

// stack born: ink < born < ... < main
// stack become: ink < become < main
// stack threaded: ink < threaded < ...
// stack stays: ink < stays < main

NOINLINE double ink(double x, int n) {
	for (int i = 0; i < n; i++) x = sqrt(x * 1.0001 + i);
	return x;
}

NOINLINE double born(double x) {
	x = ink(x, 6000000);
	KEEP;
	return x;
}

NOINLINE double become(double x) {
	x = ink(x, 4000000);
	KEEP;
	return x;
}

NOINLINE double stays(double x) {
	x = ink(x, 8000000);
	KEEP;
	return x;
}

static pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;
static nanos in_threads;

NOINLINE void *threaded(void *arg) {
	nanos t0 = cpu(CLOCK_THREAD_CPUTIME_ID);
	volatile double x = ink(*(double *)arg, 1500000);
	(void)x;
	KEEP;
	pthread_mutex_lock(&lock);
	in_threads += cpu(CLOCK_THREAD_CPUTIME_ID) - t0;
	pthread_mutex_unlock(&lock);
	return NULL;
}

static void fork_one(char **argv, int become_another) {
	pid_t child = fork();
	if (child < 0) exit(1);
	if (child == 0) {
		memset(parts, 0, sizeof parts);
		if (become_another) {
			char *args[] = {argv[0], "0", "become", NULL};
			execv("/proc/self/exe", args);
			_exit(1);
		}
		PART(born, sink = born(1));
		report();
		_exit(0);
	}
	waitpid(child, NULL, 0);
}

int main(int argc, char **argv) {
	if (argc > 2 && !strcmp(argv[2], "become")) {
		PART(become, sink = become(2));
		report();
		return 0;
	}
	nanos end = budget(argc, argv), used = 0;
	while (used < end) {
		fork_one(argv, 0);
		fork_one(argv, 1);
		double x = 3;
		pthread_t t[4];
		for (int i = 0; i < 4; i++) pthread_create(&t[i], NULL, threaded, &x);
		for (int i = 0; i < 4; i++) pthread_join(t[i], NULL);
		PART(stays, sink = stays(4));
		used = 0;
		for (int i = 0; i < MAX_PARTS; i++) used += parts[i].spent;
		used = used * 3 + in_threads;
	}
	spent("threaded", in_threads);
	report();
	return 0;
}
