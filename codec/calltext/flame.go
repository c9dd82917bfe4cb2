package calltext

import (
	"bufio"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"entelon/core/calltree"
)

// WriteFlame writes a flame graph of so many columns, the root at the top. A box is as wide
// as its share; what is narrower than a column stands together as a shaded one, and what
// stays empty below a box is its own cost.
func WriteFlame(w io.Writer, t *calltree.Tree, c *calltree.Cost, columns, rows int, name func(string) string) error {
	b := bufio.NewWriter(w)
	total := c.Total(0)
	if total > 0 && columns > 0 {
		l := t.Layout(c, calltree.LayoutOptions{MinWidth: total/int64(columns) + 1, Rows: rows})
		column := func(v int64) int { return int((float64(v)*float64(columns) + float64(total)/2) / float64(total)) }
		var line strings.Builder
		at, depth := 0, int32(0)
		end := func() {
			fmt.Fprintln(b, strings.TrimRight(line.String(), " "))
			line.Reset()
			at = 0
		}
		for i, n := range l.Node {
			for ; depth < l.Depth[i]; depth++ {
				end()
			}
			from, to := column(l.X[i]), column(l.X[i]+l.W[i])
			if from < at {
				from = at // what was before it was rounded up
			}
			if to <= from {
				continue
			}
			line.WriteString(strings.Repeat(" ", from-at))
			text := "all"
			if n != 0 {
				text = name(t.Profile.FunctionName(t.Function[n]))
			}
			line.WriteString(box(text, to-from, l.Hidden[i] > 0))
			at = to
		}
		end()
	}
	if err := b.Flush(); err != nil {
		return fmt.Errorf("writing the flame graph: %w", err)
	}
	return nil
}

// box is a box of so many columns with as much of its text as there is room for.
func box(text string, width int, band bool) string {
	switch {
	case band:
		return strings.Repeat("░", width)
	case width == 1:
		return "▏"
	}
	room := width - 1
	if n := utf8.RuneCountInString(text); n > room {
		cut := []rune(text)
		if text = string(cut[:room]); room > 3 {
			text = string(cut[:room-1]) + "…"
		}
	}
	return "▏" + text + strings.Repeat("·", room-utf8.RuneCountInString(text))
}
