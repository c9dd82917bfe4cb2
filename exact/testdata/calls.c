/* Calls functions as often as its own counters say, in all the ways in which calls and returns
 * do not simply follow each other. It prints the counters. */
#define _GNU_SOURCE
#include <pthread.h>
#include <setjmp.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

#define COUNTED(name) static unsigned long n_##name;
#define IN(name) __atomic_fetch_add(&n_##name, 1, __ATOMIC_RELAXED)
#define SAY(name) printf(#name " %lu\n", n_##name)
#define KEEP __attribute__((noinline, noclone))

COUNTED(recurse) COUNTED(even) COUNTED(odd) COUNTED(by_height) COUNTED(deep) COUNTED(leaf) COUNTED(tail) COUNTED(target) COUNTED(on_signal) COUNTED(in_handler) COUNTED(work) COUNTED(after)

static volatile unsigned long ink;
static jmp_buf back;

KEEP static void leaf(void) { IN(leaf); ink++; }
KEEP static long recurse(long n)
{
	long a, b;

	IN(recurse);
	if (n < 2)
		return n;
	a = recurse(n - 1);
	b = recurse(n - 2);
	__asm__ volatile("" : "+r"(b)); /* else the second call becomes a loop */
	return a + b;
}
KEEP static int odd(unsigned n);
KEEP static int even(unsigned n) { IN(even); ink++; return n == 0 ? 1 : odd(n - 1) + (ink == 0); }
KEEP static int odd(unsigned n) { IN(odd); ink++; return n == 0 ? 0 : even(n - 1) + (ink == 0); }
KEEP static int by_height(const void *a, const void *b) { IN(by_height); return *(const int *)a - *(const int *)b; }
KEEP static void deep(int n) { IN(deep); leaf(); if (n == 0) longjmp(back, 1); deep(n - 1); ink++; }
KEEP static long target(long n) { IN(target); leaf(); return n + ink; }
KEEP static long tail(long n) { IN(tail); ink++; return target(n + 1); }
KEEP static void in_handler(void) { IN(in_handler); ink++; }
KEEP static void on_signal(int s) { IN(on_signal); (void)s; in_handler(); }
KEEP static void after(void) { IN(after); ink++; }
KEEP static void *work(void *x) { IN(work); for (int i = 0; i < 1000; i++) leaf(); return x; }

int main(int argc, char **argv)
{
	static int heights[5000];
	pthread_t t[4];

	if (argc > 1 && strcmp(argv[1], "child") == 0) {
		for (int i = 0; i < 321; i++)
			after();
		SAY(after);
		return 7;
	}
	recurse(20);
	even(100000);
	srandom(1);
	for (int i = 0; i < 5000; i++)
		heights[i] = random();
	qsort(heights, 5000, sizeof(*heights), by_height);
	for (int i = 0; i < 300; i++)
		if (setjmp(back) == 0)
			deep(i % 50);
	for (int i = 0; i < 2000; i++)
		ink += tail(i);
	struct sigaction a = {.sa_handler = on_signal};
	stack_t other = {.ss_sp = malloc(1 << 16), .ss_size = 1 << 16};
	sigaltstack(&other, 0);
	for (int flags = 0; flags < 2; flags++) {
		a.sa_flags = flags ? SA_ONSTACK : 0;
		sigaction(SIGUSR1, &a, 0);
		for (int i = 0; i < 100; i++) {
			raise(SIGUSR1);
			after();
		}
	}
	for (int i = 0; i < 4; i++)
		pthread_create(&t[i], 0, work, 0);
	for (int i = 0; i < 4; i++)
		pthread_join(t[i], 0);
	fflush(stdout);
	pid_t child = fork();
	if (child == 0) {
		for (int i = 0; i < 123; i++)
			after();
		execl("/proc/self/exe", argv[0], "child", (char *)0);
		execl(argv[0], argv[0], "child", (char *)0);
		_exit(1);
	}
	int status = 0;
	waitpid(child, &status, 0);
	SAY(recurse); SAY(even); SAY(odd); SAY(by_height); SAY(deep); SAY(leaf); SAY(tail); SAY(target); SAY(on_signal); SAY(in_handler); SAY(work); SAY(after);
	printf("child %d\n", WEXITSTATUS(status));
	return 3;
}
