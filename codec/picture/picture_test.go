package picture

import (
	"bytes"
	"encoding/xml"
	"math"
	"strings"
	"testing"

	"entelon/core/calltree"
	"entelon/core/invent"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scope"
)

// drawing is what a reader of SVG makes of a picture.
type drawing struct {
	Width  int     `xml:"width,attr"`
	Height int     `xml:"height,attr"`
	Rects  []box   `xml:"rect"`
	Texts  []text  `xml:"text"`
	Frames []shown `xml:"g"`
}

type box struct {
	X      float64 `xml:"x,attr"`
	Y      int     `xml:"y,attr"`
	Width  float64 `xml:"width,attr"`
	Stroke float64 `xml:"stroke-width,attr"`
	Title  string  `xml:"title"`
}

type text struct {
	Said string `xml:",chardata"`
}

type shown struct {
	Title string `xml:"title"`
	Rects []box  `xml:"rect"`
	Texts []text `xml:"text"`
}

func drawn(t *testing.T, p *profile.Profile, thin int64, o Options) (*drawing, *calltree.Layout) {
	t.Helper()
	tr := calltree.New(p)
	c := tr.Cost(0, scope.Scope{})
	l := tr.Layout(c, calltree.LayoutOptions{MinWidth: thin})
	var b bytes.Buffer
	if err := Write(&b, tr, c, l, "ns", o); err != nil {
		t.Fatal(err)
	}
	var d drawing
	if err := xml.Unmarshal(b.Bytes(), &d); err != nil {
		t.Fatalf("%v in\n%.600s", err, b.String())
	}
	return &d, l
}

// TestFramesAreAsWideAsTheirCost: each frame of a layout is drawn, as wide as its
// share of the whole and below its caller, or above it where the picture grows up.
func TestFramesAreAsWideAsTheirCost(t *testing.T) {
	for seed := range uint64(5) {
		for _, up := range []bool{false, true} {
			p := invent.Profile(seed, invent.Small)
			d, l := drawn(t, p, p.Total(0)/50, Options{Width: 900, Title: "CPU time of engraved", Hundred: "1 s", Up: up})
			if d.Width != 900 || d.Texts[0].Said != "CPU time of engraved" || d.Texts[1].Said != "100 % = 1 s" {
				t.Errorf("seed %d: it is %d wide and says %q", seed, d.Width, d.Texts)
			}
			whole, bands := 0, 0
			for i := range l.Node {
				if l.Hidden[i] > 0 {
					bands++
				} else {
					whole++
				}
			}
			if got := len(d.Frames); got != whole || whole < 10 || bands == 0 || len(d.Rects) != bands+1 { // and the paper
				t.Fatalf("seed %d: %d frames and %d bands are drawn, want %d and %d", seed, got, len(d.Rects)-1, whole, bands)
			}
			at, bottom := 0, d.Frames[0].Rects[0].Y
			for i := range l.Node {
				if l.Hidden[i] > 0 {
					continue
				}
				r := d.Frames[at].Rects[0]
				at++
				want := float64(l.W[i]) / float64(l.W[0]) * (900 - 2*margin)
				if math.Abs(r.Width-max(0.3, want-0.6)) > 0.02 || r.X < margin-0.01 || r.X+r.Width > 900-margin+0.3 {
					t.Fatalf("seed %d: frame %d is from %.2f on and %.2f wide, want %.2f", seed, i, r.X, r.Width, want)
				}
				y := bottom + int(l.Depth[i])*row
				if up {
					y = bottom - int(l.Depth[i])*row
				}
				if r.Y != y || r.Y < head || r.Y+row > d.Height {
					t.Fatalf("seed %d: frame %d of depth %d is at %d, want %d, in a picture %d high", seed, i, l.Depth[i], r.Y, y, d.Height)
				}
			}
		}
	}
}

// TestNamesAreNoMarkup: names of a profile come from elsewhere, and stay text.
func TestNamesAreNoMarkup(t *testing.T) {
	evil := "operator<<\x01</title><script>alert(\"&\")</script>\xff"
	b := profile.NewBuilder()
	b.Measure("cpu", "ns", measure.Sum)
	th := b.Thread(b.Process(1), 1)
	m := b.Module(profile.Module{Path: b.Intern("/srv/engraved"), Kind: profile.KindOwn})
	f := b.Function(profile.Function{Name: b.Intern(evil), Module: m, Kind: profile.KindKernel})
	b.Sample(0, th, b.Push(0, b.Frame(profile.Frame{Function: f})), 1000)
	d, _ := drawn(t, b.Profile(), 0, Options{Width: 600, Title: "a < b & c", Hundred: `"1"`, Focus: evil})
	last := d.Frames[len(d.Frames)-1]
	if len(d.Frames) != 2 || !strings.HasPrefix(last.Title, `operator<<·</title><script>alert("&")</script>·`) || !strings.Contains(last.Title, "100.00 %") {
		t.Errorf("of %d frames the last is called %q", len(d.Frames), last.Title)
	}
	if last.Rects[0].Stroke != 2.5 || d.Frames[0].Rects[0].Stroke == 2.5 {
		t.Error("the focus has no edge of its own")
	}
	if len(last.Rects) != 2 {
		t.Errorf("the kernel has %d areas, want one of lines on one of colour", len(last.Rects))
	}
}

func TestMostRows(t *testing.T) {
	p := invent.Profile(3, invent.Small)
	all, _ := drawn(t, p, 0, Options{Width: 900})
	few, l := drawn(t, p, 0, Options{Width: 900, MaxDepth: 3})
	shallow := 0
	for _, d := range l.Depth {
		if d < 3 {
			shallow++
		}
	}
	if len(few.Frames) != shallow || len(all.Frames) <= shallow || few.Height >= all.Height {
		t.Errorf("%d of %d frames are in three rows, want %d; %d px high instead of %d", len(few.Frames), len(all.Frames), shallow, few.Height, all.Height)
	}
}

func TestShortened(t *testing.T) {
	for name, want := range map[string]string{"lift": "lift", "slur.(*Skyline).Height": "….Height", "größer.Straße": "….Straße", "abcdefgh": "abcdefgh", "abcdefghi": "…cdefghi"} {
		if got := Shortened(name, 8); got != want {
			t.Errorf("%s in 8 letters is %s, want %s", name, got, want)
		}
	}
}

// TestWhoseCodeDecidesTheColour: the same everywhere, and libraries paler than what
// is the program's own.
func TestWhoseCodeDecidesTheColour(t *testing.T) {
	own, library := InkOf("own", "slur", true), InkOf("library", "slur", true)
	if own != InkOf("own", "slur", true) || own.Fill == library.Fill || own.Hatched || own.Dotted {
		t.Errorf("own code is %+v, a library %+v", own, library)
	}
	if k := InkOf("kernel", "", true); !k.Hatched {
		t.Errorf("the kernel is %+v", k)
	}
	if i := InkOf("own", "slur", false); !i.Dotted || i.Fill != own.Fill {
		t.Errorf("interpreted it is %+v", i)
	}
	seen := map[string]bool{}
	for _, area := range []string{"slur", "beam", "glyph", "page", "score", "lyric", "spacing", "main"} {
		seen[InkOf("own", area, true).Fill] = true
	}
	if len(seen) < 5 {
		t.Errorf("eight areas have %d colours", len(seen))
	}
}
