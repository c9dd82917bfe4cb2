package formats_test

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"entelon/codec"
	"entelon/codec/formats"
	"entelon/codec/take"
	"entelon/core/calltree"
	"entelon/core/invent"
	"entelon/core/profile"
	"entelon/core/scope"
)

func view(t *profile.Take) codec.View {
	tr := calltree.New(t.Profile)
	cost := tr.Cost(0, scope.Scope{})
	return codec.View{
		Take: t, Tree: tr, Cost: cost, Rows: func() []calltree.FunctionCost { return calltree.Functions(tr, cost) },
		Width: 900, Values: true, Now: time.Unix(0, 0),
	}
}

// TestEveryFormat: each has what people choose it by, no two the same, and writes
// something of a take; what is broken while it is written is told.
func TestEveryFormat(t *testing.T) {
	var names, endings []string
	for _, e := range formats.Encoders {
		if e.Name == "" || !strings.HasPrefix(e.Ending, ".") || !strings.Contains(e.Type, "/") || e.Means == "" {
			t.Errorf("%+v", e)
		}
		if slices.Contains(names, e.Name) || slices.Contains(endings, e.Ending) {
			t.Errorf("there are two of %s, %s", e.Name, e.Ending)
		}
		names, endings = append(names, e.Name), append(endings, e.Ending)
		var b bytes.Buffer
		if err := e.Encode(&b, view(invent.Take(3, invent.Small))); err != nil || b.Len() < 100 {
			t.Errorf("%s: %d bytes, %v", e.Name, b.Len(), err)
		}
		if err := e.Encode(brokenDisk{}, view(invent.Take(3, invent.Small))); !errors.Is(err, errDisk) {
			t.Errorf("%s on a broken disk: %v", e.Name, err)
		}
		if got, err := formats.Named(e.Name); err != nil || got.Ending != e.Ending {
			t.Errorf("%s is found as %s: %v", e.Name, got.Name, err)
		}
		if got, err := formats.ForFile("ENGRAVED" + strings.ToUpper(e.Ending)); err != nil || got.Name != e.Name {
			t.Errorf("%s is found as %s: %v", e.Ending, got.Name, err)
		}
	}
	if _, err := formats.Named("engraving"); !errors.Is(err, formats.ErrNone) || !strings.Contains(err.Error(), "report") {
		t.Errorf("a name that is none: %v", err)
	}
	if _, err := formats.ForFile("x.engraving"); !errors.Is(err, formats.ErrNone) {
		t.Errorf("an ending that is none: %v", err)
	}
}

var errDisk = errors.New("the disk is broken")

type brokenDisk struct{}

func (brokenDisk) Write([]byte) (int, error) { return 0, errDisk }

// sums adds a take up by stack.
func sums(t *profile.Take) map[string]int64 {
	tr := calltree.New(t.Profile)
	cost := tr.Cost(0, scope.Scope{})
	out := map[string]int64{}
	for n := calltree.NodeID(1); int(n) < tr.Len(); n++ {
		text := ""
		for _, m := range tr.Path(n) {
			text += "/" + strings.NewReplacer(";", ":", "\n", " ", "\r", " ").Replace(t.Profile.FunctionName(tr.Function[m]))
		}
		if v := cost.Self(n); v > 0 {
			out[text] += v
		}
	}
	return out
}

// TestThereAndBack: what is both written and read has the same stacks with the same
// values afterwards, found by its first bytes alone.
func TestThereAndBack(t *testing.T) {
	before := invent.Take(4, invent.Small)
	for _, e := range formats.Encoders {
		if !slices.ContainsFunc(formats.Decoders, func(d codec.Decoder) bool { return d.Name == e.Name }) {
			continue
		}
		var b bytes.Buffer
		if err := e.Encode(&b, view(before)); err != nil {
			t.Fatal(err)
		}
		after, err := formats.Read(&b, "without an ending", codec.Options{})
		if err != nil {
			t.Fatalf("%s: %v", e.Name, err)
		}
		got, want := sums(after), sums(before)
		if len(got) != len(want) {
			t.Errorf("%s: %d stacks of %d", e.Name, len(got), len(want))
		}
		for s, v := range want {
			if got[s] != v {
				t.Errorf("%s: %d of %d in %s", e.Name, got[s], v, s)
			}
		}
	}
}

// TestNoFormat: what is in no format is told as before, a broken reader too.
func TestNoFormat(t *testing.T) {
	for _, text := range []string{"", "hallo welt\n", "\x7fELF\x02", "a;b c\n", "ENTTAKX", strings.Repeat("x", 4096)} {
		_, err := formats.Read(strings.NewReader(text), "engraved", codec.Options{})
		var told *take.Error
		if !errors.As(err, &told) {
			t.Errorf("%.20q: %v", text, err)
		}
	}
	if _, err := formats.Read(io.MultiReader(strings.NewReader("a;b 3\n"), brokenReader{}), "engraved", codec.Options{}); !errors.Is(err, errDisk) {
		t.Errorf("a broken reader: %v", err)
	}
}

type brokenReader struct{}

func (brokenReader) Read([]byte) (int, error) { return 0, errDisk }

// TestAFormatMore: one that is made up is read and written by being in the lists.
func TestAFormatMore(t *testing.T) {
	encoders, decoders := formats.Encoders, formats.Decoders
	defer func() { formats.Encoders, formats.Decoders = encoders, decoders }()
	formats.Encoders = append(slices.Clone(encoders), codec.Encoder{
		Name: "total", Ending: ".total", Type: "text/plain", Means: "the total alone",
		Encode: func(w io.Writer, v codec.View) error { _, err := fmt.Fprintln(w, "TOTAL", v.Cost.Total(0)); return err },
	})
	formats.Decoders = append(slices.Clone(decoders), codec.Decoder{
		Name: "total", Ending: ".total", Means: "the total alone",
		Is: func(head []byte) bool { return bytes.HasPrefix(head, []byte("TOTAL ")) },
		Decode: func(r io.Reader, name string, _ codec.Options) (*profile.Take, error) {
			b := profile.NewBuilder()
			b.Measure("total", "count", 0)
			var n int64
			if _, err := fmt.Fscanf(r, "TOTAL %d", &n); err != nil {
				return nil, fmt.Errorf("%s: %w", name, err)
			}
			f := b.Frame(profile.Frame{Function: b.Function(profile.Function{Name: b.Intern("everything")})})
			b.Sample(0, b.Thread(b.Process(0), 0), b.Push(0, f), n)
			return &profile.Take{Profile: b.Profile(), Whole: true}, nil
		},
	})
	e, err := formats.ForFile("x.total")
	if err != nil {
		t.Fatal(err)
	}
	before := invent.Take(4, invent.Small)
	var b bytes.Buffer
	if err := e.Encode(&b, view(before)); err != nil {
		t.Fatal(err)
	}
	after, err := formats.Read(&b, "x", codec.Options{})
	if err != nil || after.Profile.Total(0) != before.Profile.Total(0) {
		t.Errorf("%v", err)
	}
}

// TestNotesAreRead: notes are asked for by who writes them alone, and an error of
// theirs is the format's.
func TestNotesAreRead(t *testing.T) {
	errNotes := errors.New("the notes are away")
	for _, e := range formats.Encoders {
		asked := false
		v := view(invent.Take(3, invent.Small))
		v.Notes = func() ([]codec.Note, error) { asked = true; return nil, errNotes }
		if err := e.Encode(io.Discard, v); asked != (e.Name == "report") || errors.Is(err, errNotes) != asked {
			t.Errorf("%s: asked %v, %v", e.Name, asked, err)
		}
	}
}
