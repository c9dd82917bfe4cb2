// clefs calls functions that are left in every way that C++ has: by returning, by a jump to another function in
// place of a call, and by an exception, which is caught. On standard error it says how often.
#include <cstdio>
#include <stdexcept>
#include <unistd.h>

struct Clef {
	~Clef() { gone++; }
	static int gone;
};
int Clef::gone = 0;
static int thrown;

__attribute__((noinline)) int risky(int i)
{
	Clef c;
	if (i % 3 == 0) {
		thrown++;
		throw std::runtime_error("no ink");
	}
	usleep(100);
	return i;
}

__attribute__((noinline)) int passes(int i) { return risky(i + 1); }

__attribute__((noinline)) int catches(int i)
{
	try {
		return passes(i);
	} catch (std::exception &) {
		return 0;
	}
}

int main()
{
	int sum = 0;

	for (int i = 0; i < 300; i++)
		sum += catches(i);
	fprintf(stderr, "risky 300 thrown %d gone %d sum %d\n", thrown, Clef::gone, sum);
	return 0;
}
