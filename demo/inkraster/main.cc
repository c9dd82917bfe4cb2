// Command inkraster is the page rasteriser of a made-up sheet-music shop: it
// turns the outlines of staves, note heads, beams and slurs into pixels. It is
// there to be measured. One source makes two builds: with -DBUILD=120 1.2.0,
// and with -DBUILD=130 build 1.3.0, which brought ink that spreads into the
// paper, and a regression.
#include "raster.h"
#include <atomic>
#include <cstdio>
#include <cstdlib>
#include <thread>

namespace ink {

struct Chance {
	uint64_t state;
	double upTo(double most) {
		state = state * 6364136223846793005ULL + 1442695040888963407ULL;
		return double(state >> 11) / double(1ULL << 53) * most;
	}
};

static void oval(Page &page, Point m, double w, double h) {
	const double k = 0.5523;
	Shape s;
	s.move({m.x + w, m.y});
	s.curve({m.x + w, m.y + k * h}, {m.x + k * w, m.y + h}, {m.x, m.y + h});
	s.curve({m.x - k * w, m.y + h}, {m.x - w, m.y + k * h}, {m.x - w, m.y});
	s.curve({m.x - w, m.y - k * h}, {m.x - k * w, m.y - h}, {m.x, m.y - h});
	s.curve({m.x + k * w, m.y - h}, {m.x + w, m.y - k * h}, {m.x + w, m.y});
	page.fill(s, 240);
}

static void bar(Page &page, Point from, Point to, double thick) {
	Shape s;
	s.move(from);
	s.line(to);
	s.line({to.x, to.y + thick});
	s.line({from.x, from.y + thick});
	s.line(from);
	page.fill(s, 255);
}

static void slur(Page &page, Point from, Point to, double high) {
	double w = to.x - from.x;
	Shape s;
	s.move(from);
	s.curve({from.x + w / 4, from.y - high}, {to.x - w / 4, to.y - high}, to);
	s.curve({to.x - w / 4, to.y - high + 5}, {from.x + w / 4, from.y - high + 5}, from);
	page.fill(s, 230);
}

static void staff(Page &page, double y, double width, Chance &chance) {
	for (int i = 0; i < 5; i++) bar(page, {20, y + 10.0 * i}, {width - 20, y + 10.0 * i}, 1.2);
	Point last{};
	for (double x = 40; x < width - 40; x += 14 + chance.upTo(18)) {
		Point head{x, y + chance.upTo(50)};
		oval(page, head, 6, 4.6);
		bar(page, {head.x + 5.2, head.y - 34}, {head.x + 6.4, head.y - 34}, 33);
		if (last.x > 0 && chance.upTo(1) < 0.5) bar(page, {last.x + 5, last.y - 36}, {head.x + 6, head.y - 36}, 4.5);
		if (last.x > 0 && chance.upTo(1) < 0.6) slur(page, {last.x, last.y + 9}, {head.x, head.y + 9}, -8 - chance.upTo(20));
		last = head;
	}
}

static uint64_t engrave(int number) {
	const int width = 1240, height = 1754;
	Page page(width, height);
	Chance chance{uint64_t(number) * 977 + 5};
	for (double y = 80; y < height - 120; y += 130) staff(page, y, width, chance);
#if BUILD >= 130
	page.spread(1.5);
#endif
	return page.sum();
}

} // namespace ink

int main(int argc, char **argv) {
	int pages = argc > 1 ? std::atoi(argv[1]) : 40;
	std::atomic<int> next{0};
	std::atomic<uint64_t> all{0};
	auto work = [&] {
		for (int n; (n = next++) < pages;) all += ink::engrave(n);
	};
	std::thread other(work);
	work();
	other.join();
	std::printf("%d pages, %016llx\n", pages, (unsigned long long)all);
}
