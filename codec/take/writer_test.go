package take_test

import (
	"bytes"
	"errors"
	"testing"

	"entelon/codec/take"
	"entelon/core/invent"
	"entelon/core/profile"
)

// full takes some bytes and then no more, as a disk does.
type full struct {
	bytes.Buffer
	room int
}

var errFull = errors.New("no room")

func (f *full) Write(b []byte) (int, error) {
	if f.Len()+len(b) > f.room {
		return 0, errFull
	}
	return f.Buffer.Write(b)
}

// TestWriterThatFails: the writer's error comes through, and what was written
// whole can be read.
func TestWriterThatFails(t *testing.T) {
	tk := invent.Take(1, invent.Small)
	whole := written(t, tk)
	readable := 0
	for room := 0; room < len(whole); room += 97 {
		f := &full{room: room}
		err := take.Write(f, tk)
		if !errors.Is(err, errFull) {
			t.Fatalf("with room for %d of %d bytes: %v", room, len(whole), err)
		}
		if got, err := read(f.Bytes()); err == nil {
			readable++
			if got.Whole {
				t.Fatalf("with room for %d bytes the take is said to be whole", room)
			}
		}
	}
	if readable == 0 {
		t.Error("no beginning of the file could be read")
	}
}

// TestNothingNewIsNotWritten: a second Append without anything new adds no block.
func TestNothingNewIsNotWritten(t *testing.T) {
	p := invent.Profile(1, invent.Small)
	var b bytes.Buffer
	w, err := take.NewWriter(&b, profile.Settings{}, profile.Machine{})
	if err != nil {
		t.Fatal(err)
	}
	if err := w.Append(p); err != nil {
		t.Fatal(err)
	}
	n := b.Len()
	if err := w.Append(p); err != nil {
		t.Fatal(err)
	}
	if b.Len() != n {
		t.Errorf("%d bytes were written for nothing", b.Len()-n)
	}
}

// TestManyBlocks: more samples than one block holds.
func TestManyBlocks(t *testing.T) {
	want := invent.Take(2, invent.Shape{Functions: 9, Threads: 2, Stacks: 40, Samples: 600_000, Depth: 6})
	got, err := read(written(t, want))
	if err != nil {
		t.Fatal(err)
	}
	for i := range want.Profile.Samples.Stack {
		a, b := want.Profile.Samples, got.Profile.Samples
		if a.Stack[i] != b.Stack[i] || a.Time[i] != b.Time[i] || a.Thread[i] != b.Thread[i] || a.Values[1][i] != b.Values[1][i] {
			t.Fatalf("sample %d came back otherwise", i)
		}
	}
}

func TestEveryReasonHasARemedy(t *testing.T) {
	for r := take.Empty; r <= take.NoSamples; r++ {
		if (&take.Error{Reason: r}).Remedy() == "" {
			t.Errorf("reason %d says not what to do", r)
		}
	}
}
