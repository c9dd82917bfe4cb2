//go:build v350 && !v360

package glyph

// key tells outlines apart. The place is in it for the sake of hinting.
type key struct {
	name string
	size float64
	x    float64
}

func keyOf(name string, size, x float64) key { return key{name, size, x} }
