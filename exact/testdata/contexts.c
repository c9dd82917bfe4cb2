/* Each function calls the next one from two places: four million chains of callers, and more
 * blocks of instructions in each than there is room for. */
static volatile long sink;

#define BLOCK if (sink < 0) sink++;
#define BLOCKS BLOCK BLOCK BLOCK
#define CALLS(n, m)                                                                                \
	__attribute__((noinline)) void f##n(void)                                                      \
	{                                                                                              \
		sink++;                                                                                    \
		f##m();                                                                                    \
		BLOCKS                                                                                     \
		f##m();                                                                                    \
		BLOCKS                                                                                     \
	}

__attribute__((noinline)) void f20(void)
{
	sink++;
}
CALLS(19, 20)
CALLS(18, 19)
CALLS(17, 18)
CALLS(16, 17)
CALLS(15, 16)
CALLS(14, 15)
CALLS(13, 14)
CALLS(12, 13)
CALLS(11, 12)
CALLS(10, 11)
CALLS(9, 10)
CALLS(8, 9)
CALLS(7, 8)
CALLS(6, 7)
CALLS(5, 6)
CALLS(4, 5)
CALLS(3, 4)
CALLS(2, 3)
CALLS(1, 2)
CALLS(0, 1)

int main(void)
{
	f0();
	f0();
	return 0;
}
