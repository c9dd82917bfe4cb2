// Curves become straight lines that nobody can tell from them.
#pragma once
#include "geometry.h"

namespace ink {

inline bool flat(const Curve &c, double tolerance) {
	return distance(c.b, c.a, c.d) <= tolerance && distance(c.c, c.a, c.d) <= tolerance;
}

inline void halves(const Curve &c, Curve &left, Curve &right) {
	Point ab = middle(c.a, c.b), bc = middle(c.b, c.c), cd = middle(c.c, c.d);
	Point abc = middle(ab, bc), bcd = middle(bc, cd), m = middle(abc, bcd);
	left = {c.a, ab, abc, m};
	right = {m, bcd, cd, c.d};
}

// flatten hands the lines of a curve to take(from, to).
template <typename Take> void flatten(const Curve &c, double tolerance, int depth, Take &&take) {
	if (depth == 0 || flat(c, tolerance)) {
		take(c.a, c.d);
		return;
	}
	Curve left, right;
	halves(c, left, right);
#if BUILD >= 130
	tolerance *= 0.55; // so that the ink's spread follows every bend
#endif
	flatten(left, tolerance, depth - 1, take);
	flatten(right, tolerance, depth - 1, take);
}

} // namespace ink
