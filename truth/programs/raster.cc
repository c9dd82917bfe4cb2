// What C++ adds: virtual calls, templates and lambdas inlined into the standard
// library's sort, exceptions thrown through frames, names in namespaces.
#include "truth.h"
#include <algorithm>
#include <stdexcept>
#include <string>
#include <vector>

// stack ink::Round::cover: ink::Round::cover < ink::Canvas::fill < ink::render < main
// stack ink::Span::key: ink::Span::key~ < ... < ink::sorted < main
// stack ink::heavy: ink::heavy < ink::risky < ... < ink::guarded < main
// stack ink::mix: ink::mix~ < ink::blend < main

namespace ink {

NOINLINE double heavy(double x, int n) {
	for (int i = 0; i < n; i++) x = std::sqrt(x * 1.0001 + i);
	return x;
}

struct Shape {
	virtual ~Shape() {}
	virtual double cover(double x) const = 0;
};

struct Round : Shape {
	double radius = 3;
	NOINLINE double cover(double x) const override {
		for (int i = 0; i < 3000; i++) x = std::sqrt(x + radius * i);
		return x;
	}
};

class Canvas {
	std::vector<Shape *> shapes;

public:
	Canvas() { for (int i = 0; i < 50; i++) shapes.push_back(new Round); }
	~Canvas() { for (auto s : shapes) delete s; }
	NOINLINE double fill(double x) const {
		for (auto s : shapes) {
			x = s->cover(x);
			KEEP;
		}
		return x;
	}
};

NOINLINE double render(const Canvas &c) {
	double x = c.fill(1);
	KEEP;
	return x;
}

struct Span {
	double x;
	int line;
	__attribute__((always_inline)) inline double key() const {
		double k = x;
		for (int i = 0; i < 12; i++) k = std::sqrt(k * k + line * 1e-9);
		return k;
	}
};

NOINLINE double sorted(std::vector<Span> spans) {
	std::sort(spans.begin(), spans.end(), [](const Span &a, const Span &b) { return a.key() < b.key(); });
	KEEP;
	return spans[0].x;
}

NOINLINE double risky(double x, int depth) {
	std::string name(depth + 20, 'x');
	x = heavy(x, 700);
	KEEP;
	if (depth == 0) throw std::runtime_error(name);
	x += risky(x, depth - 1);
	KEEP;
	return x + name.size();
}

NOINLINE double guarded(double x) {
	for (int i = 0; i < 12; i++) {
		try {
			x += risky(x, 12);
		} catch (const std::exception &e) {
			x += e.what()[0];
		}
		KEEP;
	}
	return x;
}

template <typename T, int N> __attribute__((always_inline)) inline T mix(T x) {
	for (int i = 0; i < N; i++) x = std::sqrt(x * T(1.0003) + i);
	return x;
}

NOINLINE double blend(double x) { return mix<double, 90000>(x) + mix<float, 60000>(float(x)); }

} // namespace ink

int main(int argc, char **argv) {
	nanos end = budget(argc, argv);
	ink::Canvas canvas;
	std::vector<ink::Span> spans;
	unsigned seed = 11;
	for (int i = 0; i < 1500; i++) spans.push_back({double((seed = seed * 1103515245 + 12345) % 9973), i});
	while (cpu(CLOCK_PROCESS_CPUTIME_ID) < end) {
		PART(ink::render, sink = ink::render(canvas));
		PART(ink::sorted, sink = ink::sorted(spans));
		PART(ink::guarded, sink = ink::guarded(2));
		PART(ink::blend, sink = ink::blend(3));
	}
	report();
	return 0;
}
