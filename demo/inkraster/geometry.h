// Points and curves of a page, in units of one pixel.
#pragma once
#include <cmath>

namespace ink {

struct Point {
	double x, y;
};

inline Point middle(Point a, Point b) { return {(a.x + b.x) / 2, (a.y + b.y) / 2}; }

inline double distance(Point p, Point a, Point b) {
	double dx = b.x - a.x, dy = b.y - a.y;
	double length = std::sqrt(dx * dx + dy * dy);
	if (length == 0) return std::hypot(p.x - a.x, p.y - a.y);
	return std::fabs((p.x - a.x) * dy - (p.y - a.y) * dx) / length;
}

// A cubic curve: where it begins, two points that pull it, where it ends.
struct Curve {
	Point a, b, c, d;
};

} // namespace ink
