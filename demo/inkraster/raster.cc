#include "raster.h"
#include "flatten.h"
#include <algorithm>

namespace ink {

void Shape::line(Point p) {
	if (p.y != at.y) {
		Point top = at, bottom = p;
		int winding = 1;
		if (top.y > bottom.y) {
			std::swap(top, bottom);
			winding = -1;
		}
		edges.push_back({top.y, bottom.y, top.x, (bottom.x - top.x) / (bottom.y - top.y), winding});
	}
	at = p;
}

void Shape::curve(Point b, Point c, Point d) {
	flatten({at, b, c, d}, 0.1, 12, [this](Point, Point to) { line(to); });
}

const std::vector<Edge> &Shape::sorted() {
	std::sort(edges.begin(), edges.end(), [](const Edge &a, const Edge &b) {
		return a.top != b.top ? a.top < b.top : a.x < b.x;
	});
	return edges;
}

static inline double crossing(const Edge &e, double y) { return e.x + (y - e.top) * e.slope; }

// Where an edge crosses a line, all pixels to the right are covered from there
// on; the pixel that it crosses is covered in part.
inline void Page::accumulate(const Edge &e, double y, double share) {
	double x = std::min(std::max(crossing(e, y), 0.0), double(width));
	int i = int(x);
	double part = 1 - (x - i);
	cover[i] += float(e.winding * share * part);
	cover[i + 1] += float(e.winding * share * (1 - part));
}

static inline uint8_t mixed(uint8_t paper, uint8_t tone, float covered) {
	float c = std::min(std::fabs(covered), 1.0f);
	return uint8_t(paper + (float(tone) - float(paper)) * c + 0.5f);
}

void Page::blend(int y, int from, int to, uint8_t tone) {
	float covered = 0;
	uint8_t *line = &pixels[size_t(y) * width];
	for (int x = from; x < to; x++) {
		covered += cover[x];
		cover[x] = 0;
		if (covered > 0.002f || covered < -0.002f) line[x] = mixed(line[x], tone, covered);
	}
	cover[to] = cover[to + 1] = 0;
}

void Page::fill(Shape &shape, uint8_t tone) {
	const int steps = 4; // lines are looked at this often for each line of pixels
	const auto &edges = shape.sorted();
	std::vector<const Edge *> active;
	size_t next = 0;
	if (edges.empty()) return;
	for (int y = std::max(0, int(edges[0].top)); y < height; y++) {
		while (next < edges.size() && edges[next].top < y + 1) active.push_back(&edges[next++]);
		active.erase(std::remove_if(active.begin(), active.end(), [y](const Edge *e) { return e->bottom <= y; }), active.end());
		if (active.empty() && next == edges.size()) break;
		double left = width, right = 0;
		for (const Edge *e : active) {
			for (int s = 0; s < steps; s++) {
				double at = y + (s + 0.5) / steps;
				if (at >= e->top && at < e->bottom) accumulate(*e, at, 1.0 / steps);
			}
			left = std::min({left, crossing(*e, y), crossing(*e, y + 1)});
			right = std::max({right, crossing(*e, y), crossing(*e, y + 1)});
		}
		if (left < right) blend(y, std::max(0, int(left)), std::min(width, int(right) + 2), tone);
	}
}

// spread darkens what is next to ink, as paper draws it in.
void Page::spread(double radius) {
	std::vector<uint8_t> dry = pixels;
	int r = int(std::ceil(radius));
	for (int y = r; y < height - r; y++) {
		for (int x = r; x < width - r; x++) {
			const uint8_t *p0 = &dry[size_t(y) * width + x];
			if (!(p0[-1] | p0[1])) continue; // far from any ink
			uint8_t wettest = 0;
			for (int dx = -r; dx <= r; dx++) wettest = std::max(wettest, dry[size_t(y) * width + x + dx]);
			uint8_t &p = pixels[size_t(y) * width + x];
			p = std::max(p, uint8_t(wettest / 8));
		}
	}
}

uint64_t Page::sum() const {
	uint64_t s = 0;
	for (uint8_t p : pixels) s = s * 31 + p;
	return s;
}

} // namespace ink
