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
// Each thread frees what it allocated itself: another may have written sink since.
void *volatile sink;
#define CAST(...) do { void *cast = __VA_ARGS__; sink = cast; free(cast); } while (0)

KEEP void copper(int n) { for (int i = 0; i < n; i++) CAST(malloc(100 + i % 7)); }
KEEP void zinc(int n) { for (int i = 0; i < n; i++) CAST(calloc(3, 40 + i % 5)); }
KEEP void steel(int n) {
	void *p = 0;
	for (int i = 1; i <= n; i++) sink = p = realloc(p, 16 * (i % 50 + 1));
	free(p);
}
KEEP void brass(int n) {
	for (int i = 0; i < n; i++) {
		CAST(aligned_alloc(64, 128));
		void *p;
		if (!posix_memalign(&p, 32, 77)) free(p);
		CAST(memalign(16, 48));
		CAST(reallocarray(0, 5, 9));
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
