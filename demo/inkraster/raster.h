// A page of grey pixels, and shapes that are filled on it.
#pragma once
#include "geometry.h"
#include <cstdint>
#include <vector>

namespace ink {

struct Edge {
	double top, bottom; // lines that it crosses
	double x, slope;    // where it is at the top, and how far it moves in a line
	int winding;
};

class Shape {
public:
	void move(Point p) { at = p; }
	void line(Point p);
	void curve(Point b, Point c, Point d);
	const std::vector<Edge> &sorted();

private:
	Point at{};
	std::vector<Edge> edges;
};

class Page {
public:
	Page(int width, int height) : width(width), height(height), pixels(size_t(width) * height), cover(width + 2) {}
	void fill(Shape &shape, uint8_t tone);
	void spread(double radius);
	uint64_t sum() const;

private:
	void accumulate(const Edge &e, double y, double share);
	void blend(int y, int from, int to, uint8_t tone);

	int width, height;
	std::vector<uint8_t> pixels;
	std::vector<float> cover; // of one line of pixels
};

} // namespace ink
