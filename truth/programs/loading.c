// Code that is loaded and unloaded while the program runs. Built with
// libone.so and libtwo.so beside it, from plugin.c.
#include "truth.h"
#include <dlfcn.h>
#include <libgen.h>
#include <unistd.h>

// stack work_1: work_1 < play < ... < one < main
// stack work_2: work_2 < play < ... < two < main

static inline __attribute__((always_inline)) double used(const char *dir, const char *file, int n) {
	char path[4096];
	snprintf(path, sizeof path, "%s/%s", dir, file);
	void *lib = dlopen(path, RTLD_NOW);
	if (!lib) {
		fprintf(stderr, "%s\n", dlerror());
		exit(1);
	}
	double (*play)(int) = (double (*)(int))dlsym(lib, "play");
	double x = play(n);
	KEEP;
	dlclose(lib);
	return x;
}

NOINLINE double one(const char *dir) {
	double x = used(dir, "libone.so", 1500000);
	KEEP;
	return x;
}

NOINLINE double two(const char *dir) {
	double x = used(dir, "libtwo.so", 800000);
	KEEP;
	return x;
}

int main(int argc, char **argv) {
	char self[4096];
	ssize_t n = readlink("/proc/self/exe", self, sizeof self - 1);
	if (n < 0) return 1;
	self[n] = 0;
	char *dir = dirname(self);
	nanos end = budget(argc, argv);
	while (cpu(CLOCK_PROCESS_CPUTIME_ID) < end) {
		PART(one, sink = one(dir));
		PART(two, sink = two(dir));
	}
	report();
	return 0;
}
