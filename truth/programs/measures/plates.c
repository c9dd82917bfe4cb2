// Plates of several kinds are cast (allocated) in several functions, in two
// threads and a child process, by every function of the C library that
// allocates. The allocator that counts (counting.c) says how many and how much.
#define _GNU_SOURCE
#include <malloc.h>
#include <pthread.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/wait.h>
#include <unistd.h>

#define KEEP __attribute__((noinline, noclone))
void *volatile sink;

KEEP void copper(int n) { for (int i = 0; i < n; i++) { sink = malloc(100 + i % 7); free(sink); } }
KEEP void zinc(int n) { for (int i = 0; i < n; i++) { sink = calloc(3, 40 + i % 5); free(sink); } }
KEEP void steel(int n) {
	void *p = 0;
	for (int i = 1; i <= n; i++) sink = p = realloc(p, 16 * (i % 50 + 1));
	free(p);
}
KEEP void brass(int n) {
	for (int i = 0; i < n; i++) {
		sink = aligned_alloc(64, 128); free(sink);
		void *p;
		if (!posix_memalign(&p, 32, 77)) free(p);
		sink = memalign(16, 48); free(sink);
		sink = reallocarray(0, 5, 9); free(sink);
	}
}
KEEP void *work(void *a) { copper(700); zinc(300); return a; }

// Fresh pages are touched: as many faults as pages.
KEEP void polish(int pages) {
	char *p = mmap(0, (size_t)pages * 4096, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
	madvise(p, (size_t)pages * 4096, MADV_NOHUGEPAGE);
	for (int i = 0; i < pages; i++) p[(size_t)i * 4096] = 1;
	munmap(p, (size_t)pages * 4096);
}

KEEP void call(int n) { for (int i = 0; i < n; i++) if (write(-1, "", 0) == 0) abort(); }

int main(void) {
	pthread_t t;
	pthread_create(&t, 0, work, 0);
	copper(1000); zinc(400); steel(500); brass(100);
	pthread_join(t, 0);
	polish(700);
	call(900);
	for (int i = 0; i < 3; i++) {
		pid_t child = fork();
		if (!child) { copper(250); exit(0); }
		waitpid(child, 0, 0);
	}
	return 0;
}
