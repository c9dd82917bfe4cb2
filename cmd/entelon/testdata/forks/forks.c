// Forks two children: one works itself, the other becomes another program.
#include <stdint.h>
#include <stdio.h>
#include <sys/wait.h>
#include <unistd.h>

volatile uint64_t sink;

__attribute__((noinline)) void work_in_child(void) {
	for (long i = 0; i < 300000000; i++) sink = sink * 31 + i;
}

int main(int argc, char **argv) {
	if (fork() == 0) {
		work_in_child();
		_exit(0);
	}
	if (argc > 1 && fork() == 0) {
		execl(argv[1], argv[1], "0.4", (char *)0);
		_exit(127);
	}
	while (wait(0) > 0) {
	}
	return 7;
}
