package picture

import (
	"fmt"
	"io"

	"entelon/codec"
	"entelon/core/calltree"
	"entelon/core/measure"
	"entelon/core/profile"
)

// Encoder is this format among others.
var Encoder = codec.Encoder{
	Name: "picture", Ending: ".svg", Type: "image/svg+xml", Means: "the flame graph as a picture",
	Params: []codec.Param{
		{Name: "root", Type: "integer", Means: "node to dive into"},
		{Name: "order", Type: "string", Means: "of siblings: cost, name or first"},
		{Name: "pixels", Type: "integer", Means: "width"},
		{Name: "up", Type: "boolean", Means: "it grows up"},
		{Name: "focus", Type: "string", Means: "full name of the function with a mark"},
	},
	Encode: encode,
}

func encode(w io.Writer, v codec.View) error {
	words := v.Tree.Profile.Words(v.Cost.Measure)
	title := fmt.Sprintf("%s of %s build %s", words.Label, v.Take.Settings.Program, v.Take.Settings.Build)
	if !v.Scope.All() {
		title += ", only where " + v.Scope.String()
	}
	total := v.Cost.Total(v.Root)
	l := v.Tree.Layout(v.Cost, calltree.LayoutOptions{Root: v.Root, MinWidth: max(1, total/int64(v.Width)), Order: v.Order, Rows: v.Bounds.Rows, Boxes: v.Bounds.Boxes})
	hundred := fmt.Sprintf("%s%s · %d samples", measure.Amount(total, words.Unit), profile.Partial(v.Take.Missing(v.Cost.Measure)), v.Cost.TotalSamples(v.Root))
	return Write(w, v.Tree, v.Cost, l, words.Unit, Options{Width: v.Width, Title: title, Hundred: hundred, Up: v.Up, Focus: v.Focus})
}
