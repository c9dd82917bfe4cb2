package sampler

import (
	"encoding/binary"
	"strings"
	"testing"

	"entelon/linux/bpf"

	"entelon/core/profile"
)

// labelsRecord encodes what the kernel's program writes of labels: names and
// values in turn.
func labelsRecord(texts ...string) []byte {
	b := make([]byte, bpf.BeforeOther+bpf.OtherHeader)
	for i := 0; i < len(texts); i += 2 {
		for k, most := range []int{bpf.LabelNameBytes, bpf.LabelTextBytes} {
			t := texts[i+k]
			if len(t) > most {
				t = t[:most]
			}
			field := make([]byte, 8+most)
			binary.NativeEndian.PutUint64(field, uint64(len(t)))
			copy(field[8:], t)
			b = append(b, field...)
		}
	}
	binary.NativeEndian.PutUint64(b[bpf.BeforeOther+bpf.OtherKind:], bpf.KindLabels)
	binary.NativeEndian.PutUint64(b[bpf.BeforeOther+bpf.OtherLow:], uint64(len(texts)/2))
	binary.NativeEndian.PutUint64(b[bpf.BeforeOther+bpf.OtherLength:], uint64(len(b)-bpf.BeforeOther-bpf.OtherHeader))
	return b
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
		{[]string{"a" + long, "b" + long}, "a" + strings.Repeat("é", (bpf.LabelNameBytes-1)/2) + "=b" + strings.Repeat("é", (bpf.LabelTextBytes-1)/2) + ";"},
		{[]string{"voice", "alto", "page", "4"}, ""}, // out of order
		{[]string{"", "4"}, ""},
		{[]string{"page", "\xff\xfe"}, ""},
		{[]string{"pa\x00ge", "4"}, ""},
		{nil, ""},
	} {
		b := profile.NewBuilder()
		set, whole := labelsOf(labelsRecord(x.texts...), b)
		got := ""
		p := b.Profile()
		for ; set != 0; set = p.LabelSets.Parent[set] {
			got = p.Strings[p.LabelSets.Name[set]] + "=" + p.Strings[p.LabelSets.Value[set]] + ";" + got
		}
		if got != x.want || whole != (x.want != "" || x.texts == nil) {
			t.Errorf("%q: %q %v, want %q", x.texts, got, whole, x.want)
		}
	}
	// Records of any length are read to their end and no further.
	whole := labelsRecord("page", "4", "voice", "alto")
	for n := range whole {
		b := profile.NewBuilder()
		set, all := labelsOf(whole[:n], b)
		if set != 0 && n < bpf.BeforeOther+bpf.OtherHeader+bpf.LabelBytes || all {
			t.Errorf("%d bytes have a label, or all: %v", n, all)
		}
	}
	binary.NativeEndian.PutUint64(whole[bpf.BeforeOther+bpf.OtherHeader:], 1<<40)
	labelsOf(whole, profile.NewBuilder())
}
