package calltree_test

import (
	"testing"

	"entelon/core/calltree"
	"entelon/core/invent"
	"entelon/core/profile"
	"entelon/core/scope"
)

// Lines' self costs sum to those of the file's functions, and each line's total
// is what one finds by walking every stack.
func TestLines(t *testing.T) {
	p := invent.Profile(60, invent.Small)
	tr := calltree.New(p)
	sc := scope.Between(1e8, 9e8)
	in := sc.Contains(p)
	self, total := map[uint32]int64{}, map[uint32]int64{}
	for i, s := range p.Samples.Stack {
		if !in(i) {
			continue
		}
		v := p.Samples.Values[0][i]
		self[p.Frames[p.Stacks.Frame[s]].Line] += v
		seen := map[uint32]bool{}
		p.Walk(s, func(f profile.FrameID) {
			if l := p.Frames[f].Line; !seen[l] {
				seen[l] = true
				total[l] += v
			}
		})
	}
	lines := calltree.Lines(tr, tr.Cost(0, sc), "a.c") // all of the made functions are in it
	if len(lines) != len(total) {
		t.Fatalf("%d lines, want %d", len(lines), len(total))
	}
	for _, l := range lines {
		if l.Self != self[l.Line] || l.Total != total[l.Line] {
			t.Errorf("line %d: self %d, want %d; total %d, want %d", l.Line, l.Self, self[l.Line], l.Total, total[l.Line])
		}
		for _, c := range l.Calls {
			if c.Value > l.Total {
				t.Errorf("line %d calls for %d of %d", l.Line, c.Value, l.Total)
			}
		}
	}
	if got := calltree.Lines(tr, tr.Cost(0, sc), "b.c"); len(got) != 0 {
		t.Errorf("a file without functions has %d lines", len(got))
	}
}
