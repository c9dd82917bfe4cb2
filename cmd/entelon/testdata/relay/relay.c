// relay has threads that wait for each other in known ways: holder keeps a lock while it sleeps,
// waiter wants that lock, writer feeds reader through a pipe. On standard error it says when each
// wait of waiter and reader began and ended, and for whom, in nanoseconds of CLOCK_MONOTONIC.
#define _GNU_SOURCE
#include <pthread.h>
#include <stdint.h>
#include <stdio.h>
#include <sys/syscall.h>
#include <time.h>
#include <unistd.h>

static pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;
static pthread_barrier_t round_begins;
static int fds[2];
static int holder_tid, writer_tid;
enum { ROUNDS = 40 };

static uint64_t now(void)
{
	struct timespec t;

	clock_gettime(CLOCK_MONOTONIC, &t);
	return t.tv_sec * 1000000000ull + t.tv_nsec;
}

static void spin_for(uint64_t ns)
{
	for (uint64_t end = now() + ns; now() < end;)
		;
}

static void doze(long us)
{
	struct timespec t = {.tv_nsec = us * 1000};

	nanosleep(&t, 0);
}

static void *hold_lock(void *unused)
{
	holder_tid = syscall(SYS_gettid);
	for (int i = 0; i < ROUNDS; i++) {
		pthread_mutex_lock(&lock);
		pthread_barrier_wait(&round_begins);
		doze(3000);
		pthread_mutex_unlock(&lock);
		pthread_barrier_wait(&round_begins);
	}
	return unused;
}

static uint64_t begins[2][ROUNDS], ends[2][ROUNDS];

static void *want_lock(void *unused)
{
	for (int i = 0; i < ROUNDS; i++) {
		pthread_barrier_wait(&round_begins);
		spin_for(500000);
		begins[0][i] = now();
		pthread_mutex_lock(&lock);
		ends[0][i] = now();
		pthread_mutex_unlock(&lock);
		pthread_barrier_wait(&round_begins);
	}
	return unused;
}

static void *feed_pipe(void *unused)
{
	writer_tid = syscall(SYS_gettid);
	for (int i = 0; i < ROUNDS; i++) {
		doze(2000);
		if (write(fds[1], "x", 1) != 1)
			break;
	}
	return unused;
}

static void *read_pipe(void *unused)
{
	char c;

	for (int i = 0; i < ROUNDS; i++) {
		begins[1][i] = now();
		if (read(fds[0], &c, 1) != 1)
			break;
		ends[1][i] = now();
	}
	return unused;
}

int main(void)
{
	void *(*work[])(void *) = {hold_lock, want_lock, feed_pipe, read_pipe};
	const char *names[] = {"holder", "waiter", "writer", "reader"};
	pthread_t threads[4];

	if (pipe(fds) != 0 || pthread_barrier_init(&round_begins, 0, 2) != 0)
		return 1;
	for (int i = 0; i < 4; i++) {
		if (pthread_create(&threads[i], 0, work[i], 0) != 0)
			return 1;
		pthread_setname_np(threads[i], names[i]);
	}
	for (int i = 0; i < 4; i++)
		pthread_join(threads[i], 0);
	for (int k = 0; k < 2; k++)
		for (int i = 0; i < ROUNDS; i++)
			fprintf(stderr, "%s %d %llu %llu\n", k ? "reader" : "waiter", k ? writer_tid : holder_tid, (unsigned long long)begins[k][i], (unsigned long long)ends[k][i]);
	return 0;
}
