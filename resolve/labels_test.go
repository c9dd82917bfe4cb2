package resolve

import (
	"strings"
	"testing"

	"entelon/core/profile"
	"entelon/resolve/raw"
)

// The most bytes of a label that a source reads.
const (
	labelNameBytes = 40
	labelTextBytes = 72
)

// labelled is a sample with labels: names and values in turn, in room that may be too
// small for them.
func labelled(texts ...string) *raw.Sample {
	s := &raw.Sample{Labelled: len(texts) / 2}
	field := func(t string, most int) ([]byte, uint64) {
		b := make([]byte, most)
		copy(b, t)
		return b, uint64(min(len(t), most))
	}
	for i := 0; i < len(texts); i += 2 {
		var l raw.Label
		l.Name, l.NameLength = field(texts[i], labelNameBytes)
		l.Text, l.TextLength = field(texts[i+1], labelTextBytes)
		s.Labels = append(s.Labels, l)
	}
	return s
}

// TestLabelsOf: labels become a set; long texts are cut between characters; what
// can be no set of labels is none.
func TestLabelsOf(t *testing.T) {
	long := strings.Repeat("é", 100)
	for _, x := range []struct {
		texts []string
		want  string
	}{
		{[]string{"page", "4", "voice", "viola da gamba"}, "page=4;voice=viola da gamba;"},
		{[]string{"page", ""}, "page=;"},
		{[]string{"a" + long, "b" + long}, "a" + strings.Repeat("é", (labelNameBytes-1)/2) + "=b" + strings.Repeat("é", (labelTextBytes-1)/2) + ";"},
		{[]string{"voice", "alto", "page", "4"}, ""}, // out of order
		{[]string{"", "4"}, ""},
		{[]string{"page", "\xff\xfe"}, ""},
		{[]string{"pa\x00ge", "4"}, ""},
		{nil, ""},
	} {
		b := profile.NewBuilder()
		set, missing := labelsOf(labelled(x.texts...), b)
		got := ""
		p := b.Profile()
		for ; set != 0; set = p.LabelSets.Parent[set] {
			got = p.Strings[p.LabelSets.Name[set]] + "=" + p.Strings[p.LabelSets.Value[set]] + ";" + got
		}
		if got != x.want || missing != (x.want == "" && x.texts != nil) {
			t.Errorf("%q: %q, missing %v, want %q", x.texts, got, missing, x.want)
		}
	}
	// One that says it has more than there are, and one with a length that cannot be.
	s := labelled("page", "4")
	s.Labelled = 2
	if set, missing := labelsOf(s, profile.NewBuilder()); set == 0 || !missing {
		t.Errorf("one of two labels: set %d, missing %v", set, missing)
	}
	s = labelled("page", "4")
	s.Labels[0].NameLength = 1 << 40
	labelsOf(s, profile.NewBuilder())
}
