package stacks

import (
	"errors"
	"strings"
	"testing"

	"entelon/codec"
)

// TestReadsLines: names with blanks and whatever else, numbers of any size, empty lines
// and line ends of other systems.
func TestReadsLines(t *testing.T) {
	got, err := Read(strings.NewReader("main;slur.Route;operator new(unsigned long) 3\r\n\n  \nmain;slur.Route 9000000000\nmain 0\nmain;slur.Route 2\n"), "/srv/engraved.txt", codec.Options{})
	if err != nil {
		t.Fatal(err)
	}
	p := got.Profile
	if p.Total(0) != 9_000_000_005 || p.Samples.Len() != 4 || p.Stacks.Len() != 4 || !p.Folded() {
		t.Errorf("%d in %d samples of %d stacks", p.Total(0), p.Samples.Len(), p.Stacks.Len())
	}
	if got.Settings.Program != "engraved" || len(got.Facts.Warnings) != 1 || !p.Measures[0].Counted {
		t.Errorf("%+v", got.Settings)
	}
}

// TestBadLines: each error tells the line, and nothing is read beyond a bound.
func TestBadLines(t *testing.T) {
	deep := strings.Repeat("a;", 40) + "a 1\n"
	for _, x := range []struct {
		text, want string
		limits     codec.Limits
	}{
		{"a;b 1\na;b\n", "line 2: a line has", codec.Limits{}},
		{"a;b 1\na;b -1\n", "line 2: a line has", codec.Limits{}},
		{"a 1.5\n", "line 1: a line has", codec.Limits{}},
		{"a 99999999999999999999\n", "line 1: a line has", codec.Limits{}},
		{"a 9223372036854775807\na 1\n", "line 2: the numbers add up", codec.Limits{}},
		{"a\xff;b 1\n", "line 1: a line has", codec.Limits{}},
		{"a\x00;b 1\n", "line 1: a line has", codec.Limits{}},
		{deep, "line 1: the stack has 41 frames", codec.Limits{Depth: 40}},
		{"a;b 1\na;c 1\n", "line 2: this has more bytes", codec.Limits{Unpacked: 8}},
		{"a;b 1\na;c 1\n", "line 2: this has more bytes", codec.Limits{Memory: 5 * perStack}},
		{strings.Repeat("x", longestLine+1), "line 1: ", codec.Limits{}},
	} {
		_, err := Read(strings.NewReader(x.text), "f", codec.Options{Limits: x.limits})
		if err == nil || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%.30q: %v, want %q", x.text, err, x.want)
		}
	}
	if _, err := Read(strings.NewReader(deep), "f", codec.Options{Limits: codec.Limits{Memory: 100}}); !errors.Is(err, codec.ErrTooLarge) {
		t.Error(err)
	}
}

// FuzzRead: whatever a file has, reading it ends, within its bounds.
func FuzzRead(f *testing.F) {
	f.Add("main;slur.Route 3\n")
	f.Add("a;;b 1\n;x 2")
	f.Fuzz(func(t *testing.T, text string) {
		got, err := Read(strings.NewReader(text), "f", codec.Options{Limits: codec.Limits{Memory: 1 << 20, Depth: 100}})
		if err == nil && int64(got.Profile.Stacks.Len())*perStack > 1<<20 {
			t.Errorf("%d stacks", got.Profile.Stacks.Len())
		}
	})
}
