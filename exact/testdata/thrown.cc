// Throws through frames and goes on; it prints how often its functions were called.
#include <cstdio>
#include <cstdlib>
#include <stdexcept>

static unsigned long n_thrower, n_between, n_catcher, n_after;
static volatile int ink;

__attribute__((noinline, noclone)) static void thrower(int n)
{
	n_thrower++;
	if (n % 3 == 0)
		throw std::runtime_error("x");
	ink++;
}
__attribute__((noinline, noclone)) static void between(int n)
{
	n_between++;
	if (n > 0)
		between(n - 1);
	else
		thrower(ink++);
	ink++;
}
__attribute__((noinline, noclone)) static void after() { n_after++; ink++; }
__attribute__((noinline, noclone)) static void catcher(int n)
{
	n_catcher++;
	try {
		between(n);
	} catch (const std::exception &) {
		after();
	}
}
int main()
{
	for (int i = 0; i < 300; i++)
		catcher(i % 7);
	after();
	std::printf("thrower %lu\nbetween %lu\ncatcher %lu\nafter %lu\n", n_thrower, n_between, n_catcher, n_after);
}
