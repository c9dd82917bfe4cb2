//go:build !v350 || v360

package glyph

// key tells outlines apart.
type key struct {
	name string
	size float64
}

func keyOf(name string, size, _ float64) key { return key{name, size} }
