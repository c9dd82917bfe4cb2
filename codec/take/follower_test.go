package take_test

import (
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"reflect"
	"testing"

	"entelon/codec/take"
	"entelon/core/invent"
	"entelon/core/measure"
	"entelon/core/profile"
)

// TestFollower reads a file that grows by a few bytes at a time: at each size it says
// what reading it as a whole says, and what it has said before stays as it was.
func TestFollower(t *testing.T) {
	whole := written(t, invent.Take(1, invent.Shape{Functions: 5, Threads: 2, Stacks: 20, Samples: 60, Depth: 5}))
	b := profile.NewBuilder()
	b.Measure("cpu", "ns", measure.Sum)
	var growing bytes.Buffer
	w, err := take.NewWriter(&growing, profile.Settings{Program: "engraved"}, profile.Machine{})
	if err != nil {
		t.Fatal(err)
	}
	for i := range 9 {
		p := b.Process(7)
		b.NameProcess(p, string(rune('a'+i))) // another one each time
		f := b.Frame(profile.Frame{Function: b.Function(profile.Function{Name: b.Intern(string(rune('a' + i)))})})
		b.Sample(int64(i), b.Thread(p, uint32(i/2)), b.Push(0, f), 5)
		if i > 3 {
			b.Labelled(b.Label(0, "page", string(rune('0'+i))))
		}
		if err := errors.Join(w.Append(b.Profile()), w.Facts(profile.Facts{Samples: int64(i)})); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	for _, data := range [][]byte{whole, growing.Bytes()} {
		r := rand.New(rand.NewPCG(3, 3))
		f := take.NewFollower("x.take", take.Options{})
		var before []*profile.Take
		var texts []string
		for n := 0; ; n = min(len(data), n+1+r.IntN(40)) {
			if err := f.Feed(bytes.NewReader(data[min(int64(n), f.Offset()):n])); err != nil {
				t.Fatal(err)
			}
			if f.Offset() > int64(n) {
				t.Fatalf("%d of %d bytes were read", f.Offset(), n)
			}
			got, gotErr := f.Take()
			want, wantErr := read(data[:f.Offset()])
			if f.Offset() > 16 && ((gotErr == nil) != (wantErr == nil) || gotErr == nil && !reflect.DeepEqual(got, want)) {
				t.Fatalf("after %d bytes: %v %v", n, gotErr, wantErr)
			}
			if gotErr == nil {
				before, texts = append(before, got), append(texts, text(t, got))
			}
			if n == len(data) {
				break
			}
		}
		for i, tk := range before {
			if text(t, tk) != texts[i] {
				t.Errorf("what was there after step %d is another take now", i)
			}
		}
		if last := before[len(before)-1]; !last.Whole || len(before) < 5 {
			t.Errorf("%d takes, the last is whole: %v", len(before), last.Whole)
		}
	}
}

// text is a take as a file.
func text(t *testing.T, tk *profile.Take) string { return string(written(t, tk)) }

// TestFollowerOfADamagedFile: what was before the damage stays to be had where it is asked
// for, and else it is an error; a reader that fails is asked again.
func TestFollowerOfADamagedFile(t *testing.T) {
	data := written(t, invent.Take(1, invent.Shape{Functions: 5, Threads: 2, Stacks: 20, Samples: 60, Depth: 5}))
	harmed := bytes.Clone(data)
	harmed[len(harmed)-3] ^= 1
	f := take.NewFollower("x.take", take.Options{})
	if r, ok := reason(f.Feed(bytes.NewReader(harmed))); !ok || r != take.Damaged {
		t.Errorf("the damage is %v", r)
	}
	f = take.NewFollower("x.take", take.Options{Salvage: true})
	for range 2 {
		if err := f.Feed(bytes.NewReader(harmed[f.Offset():])); err != nil {
			t.Fatal(err)
		}
	}
	got, err := f.Take()
	if err != nil || got.Whole || got.Profile.Samples.Len() != 60 {
		t.Fatalf("%v", err)
	}
	codes := map[string]int{}
	for _, w := range got.Facts.Warnings {
		codes[w.Code]++
	}
	if codes["salvaged"] != 1 {
		t.Errorf("it says %v", codes)
	}
	f = take.NewFollower("x.take", take.Options{})
	fails := errors.New("the line is dead")
	half := len(data) / 2
	if err := f.Feed(io.MultiReader(bytes.NewReader(data[:half]), broken{fails})); !errors.Is(err, fails) {
		t.Fatal(err)
	}
	if err := f.Feed(bytes.NewReader(data[f.Offset():])); err != nil {
		t.Fatal(err)
	}
	if got, err := f.Take(); err != nil || !got.Whole {
		t.Errorf("%v", err)
	}
}

type broken struct{ err error }

func (b broken) Read([]byte) (int, error) { return 0, b.err }
