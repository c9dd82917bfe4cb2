// Package stacks writes and reads folded stacks: one distinct stack a line, root
// first, frames joined by semicolons, then a blank and the count.
//
// It holds nothing between calls.
package stacks

import (
	"bufio"
	"fmt"
	"io"
	"sort"
	"strings"

	"entelon/codec"
	"entelon/core/calltree"
	"entelon/core/profile"
	"entelon/core/scope"
)

// clean keeps a name from being taken for two frames or for two lines.
var clean = strings.NewReplacer(";", ":", "\n", " ", "\r", " ")

// Write writes, for every distinct stack of functions, in the order of the
// lines, the number of samples of a measure in scope, or their values.
func Write(w io.Writer, p *profile.Profile, measure int, sc scope.Scope, values bool) error {
	t := calltree.New(p)
	return WriteTree(w, t, t.Cost(measure, sc), Options{Values: values})
}

// Options choose what is written.
type Options struct {
	Values bool  // the measure's values instead of numbers of samples
	Most   int64 // bytes that all lines together may have; 0: no bound
}

// Encoder is this format among others.
var Encoder = codec.Encoder{
	Name: "stacks", Ending: ".txt", Type: "text/plain; charset=utf-8", Means: "distinct stacks, one a line",
	Params: []codec.Param{{Name: "values", Type: "boolean", Means: "the measure's values instead of numbers of samples"}},
	Encode: func(w io.Writer, v codec.View) error {
		return WriteTree(w, v.Tree, v.Cost, Options{Values: v.Values, Most: v.Bounds.Bytes})
	},
}

// WriteTree does the same of a tree in any shape.
func WriteTree(w io.Writer, t *calltree.Tree, cost *calltree.Cost, o Options) error {
	p := t.Profile
	var size int64
	counts := cost.SelfSamples
	if o.Values {
		counts = cost.Self
	}
	lines := make([]string, 0, t.Len())
	var text []byte
	for n := calltree.NodeID(1); int(n) < t.Len(); n++ {
		v := counts(n)
		if v <= 0 {
			continue
		}
		text = text[:0]
		for _, m := range t.Path(n) {
			if o.Most > 0 && size+int64(len(text)) > o.Most {
				return codec.ErrTooLarge
			}
			if len(text) > 0 {
				text = append(text, ';')
			}
			text = append(text, clean.Replace(p.FunctionName(t.Function[m]))...)
		}
		lines = append(lines, fmt.Sprintf("%s %d\n", text, v))
		size += int64(len(text)) + 64
	}
	sort.Strings(lines)
	b := bufio.NewWriter(w)
	for _, l := range lines {
		if _, err := b.WriteString(l); err != nil {
			return fmt.Errorf("writing stacks: %w", err)
		}
	}
	return b.Flush()
}
