// Package glyph makes the outlines of note heads, clefs and flags, and keeps
// those that it has made.
package glyph

import (
	"math"
	"sync"
)

// Point is a corner of an outline.
type Point struct{ X, Y float64 }

var (
	mu    sync.Mutex
	known = map[key][]Point{}
)

// mostKept bounds the cache; a full one is emptied.
const mostKept = 4096

// Outline returns the outline of a glyph at a size, to be drawn at x.
func Outline(name string, size, x float64) []Point {
	k := keyOf(name, size, x)
	mu.Lock()
	o, ok := known[k]
	mu.Unlock()
	if ok {
		return o
	}
	o = flatten(name, size)
	mu.Lock()
	if len(known) >= mostKept {
		clear(known)
	}
	known[k] = o
	mu.Unlock()
	return o
}

// flatten turns the glyph's curves into corners.
func flatten(name string, size float64) []Point {
	arcs := 4 + len(name)%3
	out := make([]Point, 0, arcs*16)
	for a := range arcs {
		from, to := float64(a)/float64(arcs), float64(a+1)/float64(arcs)
		for i := range 16 {
			out = append(out, cubic(size, from+(to-from)*float64(i)/16))
		}
	}
	return out
}

func cubic(size, t float64) Point {
	angle := 2 * math.Pi * t
	r := size * (0.55 + 0.1*math.Sin(3*angle))
	return Point{r * math.Cos(angle), 0.7 * r * math.Sin(angle)}
}
