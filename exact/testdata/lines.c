#include <stdio.h>
#include <stdlib.h>

static int collatz(int n)
{
	int steps = 0;
	while (n != 1) {
		if (n % 2 == 0)
			n = n / 2;
		else
			n = 3 * n + 1;
		steps++;
	}
	return steps;
}

static int compare(const void *a, const void *b)
{
	int x = *(const int *)a;
	int y = *(const int *)b;
	return x - y;
}

int main(void)
{
	int list[500];
	int sum = 0;
	for (int i = 0; i < 500; i++)
		list[i] = collatz(i + 1);
	qsort(list, 500, sizeof(list[0]), compare);
	for (int i = 0; i < 500; i++) {
		switch (list[i] % 3) {
		case 0:
			sum += list[i];
			break;
		case 1:
			sum -= 1;
			break;
		default:
			sum ^= i;
		}
		if (sum > 1000000)
			abort();
	}
	printf("%d\n", sum);
	return 0;
}
