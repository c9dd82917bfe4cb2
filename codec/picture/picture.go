// Package picture draws a flame graph as a picture in SVG, as the page shows it.
//
// It holds nothing between calls.
package picture

import (
	"bufio"
	"fmt"
	"io"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"entelon/core/calltree"
	"entelon/core/measure"
	"entelon/core/profile"
)

// Options say how a flame graph is drawn.
type Options struct {
	Width    int    // in pixels
	Title    string // the scope as a sentence
	Hundred  string // what 100 % is
	Up       bool   // it grows up
	Focus    string // name of the function with a mark; "" for none
	MaxDepth int    // rows; 0 is all
}

const (
	row    = 20
	head   = 46
	margin = 12
	letter = 6.3 // width of one at this size, on average
)

// Escape makes a text one of XML, without characters that it cannot hold.
func Escape(s string) string {
	return strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;").Replace(strings.Map(func(r rune) rune {
		if r < ' ' || r == utf8.RuneError || r == 0xfffe || r == 0xffff {
			return '·'
		}
		return r
	}, s))
}

func utf16of(s string) []uint16 { return utf16.Encode([]rune(s)) }

// Write draws a layout of t.
func Write(w io.Writer, t *calltree.Tree, c *calltree.Cost, l *calltree.Layout, unit string, o Options) error {
	b := bufio.NewWriter(w)
	deepest := int32(0)
	for _, d := range l.Depth {
		if o.MaxDepth == 0 || int(d) < o.MaxDepth {
			deepest = max(deepest, d)
		}
	}
	height := head + (int(deepest)+1)*row + margin
	fmt.Fprintf(b, `<svg xmlns="http://www.w3.org/2000/svg" width="%d" height="%d" viewBox="0 0 %d %d" font-family="'Spline Sans', system-ui, sans-serif" font-size="11.5">`+"\n", o.Width, height, o.Width, height)
	b.WriteString(`<defs><pattern id="kernel" width="6" height="6" patternUnits="userSpaceOnUse"><path d="M0 6 6 0" stroke="oklch(0.74 0.004 95)" stroke-width="0.8"/></pattern></defs>` + "\n")
	fmt.Fprintf(b, `<rect width="%d" height="%d" fill="oklch(0.994 0.003 95)"/>`+"\n", o.Width, height)
	fmt.Fprintf(b, `<text x="%d" y="20" font-size="14" fill="oklch(0.25 0.02 255)">%s</text>`+"\n", margin, Escape(o.Title))
	fmt.Fprintf(b, `<text x="%d" y="37" fill="oklch(0.44 0.018 255)">100 %% = %s</text>`+"\n", margin, Escape(o.Hundred))
	whole := float64(max(1, l.W[0]))
	scale := float64(o.Width-2*margin) / whole
	for i, n := range l.Node {
		if o.MaxDepth > 0 && int(l.Depth[i]) >= o.MaxDepth {
			continue
		}
		x, width := margin+float64(l.X[i]-l.X[0])*scale, float64(l.W[i])*scale
		y := head + int(l.Depth[i])*row
		if o.Up {
			y = head + int(deepest-l.Depth[i])*row
		}
		frame(b, t, c, l, i, n, x, width, y, whole, unit, o)
	}
	b.WriteString("</svg>\n")
	if err := b.Flush(); err != nil {
		return fmt.Errorf("writing the picture: %w", err)
	}
	return nil
}

func frame(b *bufio.Writer, t *calltree.Tree, c *calltree.Cost, l *calltree.Layout, i int, n calltree.NodeID, x, width float64, y int, whole float64, unit string, o Options) {
	p := t.Profile
	share := fmt.Sprintf("%.2f %%", 100*float64(l.W[i])/whole)
	if l.Hidden[i] > 0 {
		fmt.Fprintf(b, `<rect x="%.2f" y="%d" width="%.2f" height="%d" fill="oklch(0.935 0.004 95)"><title>%d frames too thin to draw: %s</title></rect>`+"\n", x, y, max(0.3, width), row-1, l.Hidden[i], share)
		return
	}
	name, full := "all", "everything in scope"
	ink := Ink{Fill: "oklch(0.9 0.003 95)", Edge: "oklch(0.74 0.004 95)"}
	if n != 0 {
		f := t.Function[n]
		full = p.FunctionName(f)
		name = profile.Short(full)
		ink = InkOf(p.Functions[f].Kind.String(), p.Area(f), p.Modules[p.Functions[f].Module].Kind.Runs() == "native")
	}
	edge, line := ink.Edge, 0.8
	if o.Focus != "" && full == o.Focus {
		edge, line = "oklch(0.76 0.16 72)", 2.5
	}
	fmt.Fprintf(b, `<g><title>%s · %s · %s, self %s</title>`, Escape(full), share, measure.Amount(l.W[i], unit), measure.Amount(l.Self[i], unit))
	fmt.Fprintf(b, `<rect x="%.2f" y="%d" width="%.2f" height="%d" fill="%s" stroke="%s" stroke-width="%.1f"/>`, x, y, max(0.3, width-0.6), row-1, ink.Fill, edge, line)
	if ink.Hatched {
		fmt.Fprintf(b, `<rect x="%.2f" y="%d" width="%.2f" height="%d" fill="url(#kernel)"/>`, x, y, max(0.3, width-0.6), row-1)
	}
	if ink.Dotted {
		fmt.Fprintf(b, `<path d="M%.2f %d H%.2f" stroke="%s" stroke-width="2" stroke-dasharray="2 2"/>`, x, y+row-2, x+width, ink.Edge)
	}
	if n != 0 && t.Inlined[n] && width > 6 {
		fmt.Fprintf(b, `<path d="M%.2f %d l4 %d l-4 %d z" fill="oklch(0.994 0.003 95)"/>`, x, y+4, (row-1)/2-4, (row-1)/2-4)
	}
	if room := int((width - 8) / letter); room >= 3 {
		fmt.Fprintf(b, `<text x="%.2f" y="%d" fill="oklch(0.24 0.02 255)">%s</text>`, x+6, y+14, Escape(Shortened(name, room)))
	}
	b.WriteString("</g>\n")
}

// Shortened cuts a name to so many letters, keeping its end, which tells more.
func Shortened(name string, letters int) string {
	r := []rune(name)
	if len(r) <= letters {
		return name
	}
	return "…" + string(r[len(r)-letters+1:])
}
