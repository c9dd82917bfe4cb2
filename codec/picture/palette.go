package picture

import "fmt"

// Ink is how a frame is drawn. Whose code decides the colour, as on the page:
// a program's own areas in clear hues, libraries in pale ones, the runtime and
// the kernel in grey. Colours are in OKLCH, so that text stays readable.
type Ink struct {
	Fill, Edge string
	Hatched    bool // the kernel
	Dotted     bool // interpreted, or made at run time
}

var hues = []int{256, 150, 292, 118, 222, 172, 274, 134, 240}

// tone gives the same area the same hue and depth everywhere and every time.
func tone(area string) (hue int, deep bool) {
	h := uint32(2166136261)
	for _, c := range utf16of(area) {
		h = (h ^ uint32(c)) * 16777619
	}
	h = (h ^ h>>15) * 2246822519
	return hues[h%uint32(len(hues))], (h>>16)%2 == 1
}

// InkOf returns how a function is drawn, by whose code it is and its area.
func InkOf(kind, area string, native bool) Ink {
	hue, deep := tone(area)
	paint := func(l, c float64) string { return fmt.Sprintf("oklch(%g %g %d)", l, c, hue) }
	ink := Ink{Fill: "oklch(0.9 0.003 95)", Edge: "oklch(0.74 0.004 95)", Dotted: !native}
	switch kind {
	case "own", "interpreter", "jit":
		ink.Fill, ink.Edge = paint(0.875, 0.065), paint(0.64, 0.09)
		if deep {
			ink.Fill = paint(0.8, 0.085)
		}
	case "library":
		ink.Fill, ink.Edge = paint(0.935, 0.026), paint(0.78, 0.04)
	case "kernel":
		ink.Hatched = true
	}
	return ink
}
