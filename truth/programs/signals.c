// Signal handlers that do work, on the interrupted stack (default) or on a
// stack of their own (first argument "own"): the interrupted functions must
// stand below the handler. And a handler that jumps out.
#define _GNU_SOURCE
#include "truth.h"
#include <setjmp.h>
#include <signal.h>
#include <sys/time.h>

// stack handled: ... < handled < ... < played < main

NOINLINE double ink(double x, int n) {
	for (int i = 0; i < n; i++) x = sqrt(x * 1.0001 + i);
	return x;
}

static volatile nanos inside;
static volatile double other;

NOINLINE void handled(int sig) {
	(void)sig;
	nanos t0 = cpu(CLOCK_THREAD_CPUTIME_ID);
	other = ink(1, 250000);
	KEEP;
	inside += cpu(CLOCK_THREAD_CPUTIME_ID) - t0;
}

NOINLINE double played(void) {
	double x = 1;
	for (int i = 0; i < 4000000; i++) x = sqrt(x * 1.0001 + i);
	return x;
}

int main(int argc, char **argv) {
	int own = argc > 2 && !strcmp(argv[2], "own");
	if (own) {
		stack_t s = {.ss_sp = malloc(1 << 16), .ss_size = 1 << 16};
		sigaltstack(&s, NULL);
	}
	struct sigaction a = {.sa_handler = handled, .sa_flags = SA_RESTART | (own ? SA_ONSTACK : 0)};
	sigaction(SIGPROF, &a, NULL);
	struct itimerval every = {{0, 7000}, {0, 7000}};
	setitimer(ITIMER_PROF, &every, NULL);
	nanos end = budget(argc, argv), all = 0;
	while (cpu(CLOCK_PROCESS_CPUTIME_ID) < end) {
		nanos t0 = cpu(CLOCK_THREAD_CPUTIME_ID);
		sink = played();
		all += cpu(CLOCK_THREAD_CPUTIME_ID) - t0;
	}
	setitimer(ITIMER_PROF, &(struct itimerval){{0, 0}, {0, 0}}, NULL);
	spent("handled", inside);
	spent("played-handled", all - inside);
	report();
	return 0;
}
