/* Reads, writes and branches as often as its functions' comments say. */
#include <stdint.h>
#include <string.h>

enum { LINES = 4096, LINE = 64 }; /* 256 KB: more than a first level, less than a second */

static uint64_t data[LINES * LINE / 8] __attribute__((aligned(4096)));

/* 10 000 loads and 20 000 stores of 8 bytes, all of one line. */
__attribute__((noinline)) void one_line(void)
{
	uint64_t n = 10000;

	__asm__ volatile("1: mov (%1), %%rax\n mov %%rax, 8(%1)\n mov %%rax, 16(%1)\n dec %0\n jnz 1b" : "+r"(n) : "r"(data) : "rax", "memory", "cc");
}

/* A load of 4 bytes from each line, four times over. */
__attribute__((noinline)) void every_line(void)
{
	for (int round = 0; round < 4; round++) {
		uint64_t n = LINES;
		char *p = (char *)data;

		__asm__ volatile("1: mov (%1), %%eax\n add $64, %1\n dec %0\n jnz 1b" : "+r"(n), "+r"(p) : : "rax", "memory", "cc");
	}
}

/* 1 000 loads of 16 bytes, each one load. */
__attribute__((noinline)) void wide(void)
{
	uint64_t n = 1000;

	__asm__ volatile("1: movdqa (%1), %%xmm0\n dec %0\n jnz 1b" : "+r"(n) : "r"(data) : "xmm0", "memory", "cc");
}

/* 5 000 bytes are moved, one at a time: 5 000 loads and as many stores. */
__attribute__((noinline)) void moved(void)
{
	uint64_t n = 5000;
	char *to = (char *)data + 8192, *from = (char *)data;

	__asm__ volatile("rep movsb" : "+c"(n), "+S"(from), "+D"(to) : : "memory");
}

/* A branch that is taken every other time, 10 000 times. */
__attribute__((noinline)) void alternating(void)
{
	uint64_t n = 10000;

	__asm__ volatile("1: test $1, %0\n jz 2f\n nop\n 2: dec %0\n jnz 1b" : "+r"(n) : : "cc");
}

/* A branch that is always taken but the last time, 10 000 times. */
__attribute__((noinline)) void steady(void)
{
	uint64_t n = 10000;

	__asm__ volatile("1: dec %0\n jnz 1b" : "+r"(n) : : "cc");
}

int main(void)
{
	one_line();
	every_line();
	wide();
	moved();
	alternating();
	steady();
	return 0;
}
