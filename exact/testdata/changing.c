/* Makes code as it runs, and changes it: a function that is one instruction longer each time. */
#include <stdio.h>
#include <string.h>
#include <sys/mman.h>

enum { TIMES = 1000, MOST = 20 };

int main(void)
{
	unsigned char *code = mmap(0, 4096, PROT_READ | PROT_WRITE | PROT_EXEC, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
	long instructions = 0, calls = 0, sum = 0;

	if (code == MAP_FAILED)
		return 1;
	for (int n = 0; n < MOST; n++) {
		memset(code, 0x90, MOST);                           /* nop */
		memcpy(code + n, "\xb8\x07\x00\x00\x00\xc3", 6); /* mov $7, %eax; ret */
		for (int i = 0; i < TIMES; i++, calls++) {
			sum += ((int (*)(void))code)();
			instructions += n + 2;
		}
	}
	printf("instructions %ld\ncalls %ld\nsum %ld\n", instructions, calls, sum);
	return 0;
}
