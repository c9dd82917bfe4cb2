/* As many threads, one after the other, as its argument says, each with a call of its own. */
#include <pthread.h>
#include <stdlib.h>

static volatile int ink;

__attribute__((noinline)) static void stroke(void) { ink++; }
static void *work(void *x) { stroke(); return x; }

int main(int argc, char **argv)
{
	for (int n = argc > 1 ? atoi(argv[1]) : 1; n > 0; n--) {
		pthread_t t;

		if (pthread_create(&t, 0, work, 0) != 0)
			return 1;
		pthread_join(t, 0);
	}
	return 0;
}
