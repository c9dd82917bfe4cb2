/* Executes a number of instructions that can be counted by hand. */
#include <stdlib.h>

/* 1 + 2n + 1 */
__attribute__((naked, noinline)) void loop(long n) { __asm__("mov %rdi, %rcx\n1: dec %rcx\njnz 1b\nret"); }

/* 5 and a return: a repeated instruction is one. */
__attribute__((naked, noinline)) void copy(char *to, const char *from, long n) { __asm__("mov %rdx, %rcx\nnop\ncld\nrep movsb\nnop\nret"); }

static char a[5000], b[5000];

int main(void)
{
	loop(1000000);
	for (int i = 0; i < 10; i++)
		copy(a, b, 5000 - 500 * i);
	return 0;
}
