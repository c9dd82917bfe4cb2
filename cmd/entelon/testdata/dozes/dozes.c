// Sleeps for known times, and calls the kernel as often as it is told.
#include <stdlib.h>
#include <time.h>
#include <unistd.h>
#include <sys/syscall.h>

static void doze(long ns) {
	struct timespec t = {ns / 1000000000, ns % 1000000000};
	while (nanosleep(&t, &t)) {
	}
}

__attribute__((noinline)) void short_doze(void) {
	doze(5000000);
	__asm__ volatile("");
}

__attribute__((noinline)) void long_doze(void) {
	doze(150000000);
	__asm__ volatile("");
}

int main(int argc, char **argv) {
	for (int i = 0; i < 20; i++) {
		short_doze();
		if (i == 12)
			long_doze();
	}
	for (long n = argc > 1 ? atol(argv[1]) : 0; n > 0; n--)
		syscall(SYS_getppid);
	return 0;
}
