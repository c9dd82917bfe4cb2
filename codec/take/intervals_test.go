package take_test

import (
	"bytes"
	"reflect"
	"testing"

	"entelon/codec/take"
	"entelon/core/invent"
	"entelon/core/profile"
)

// waiting is a take with intervals of all kinds.
func waiting(intervals int) *profile.Take {
	return invent.Invention{Samples: 2000, Stacks: 300, Seed: 4, Intervals: intervals, Lanes: 20, Seconds: 60}.Take()
}

// TestIntervalsRoundTrip: what has a beginning and an end comes back as it was, written at once or
// bit by bit, with who ended it and all that is known of it.
func TestIntervalsRoundTrip(t *testing.T) {
	want := waiting(20_000).Profile.Intervals
	if want.Len() < 20_000 || len(want.Ended.Interval) == 0 || len(want.Attributes) != 6 {
		t.Fatalf("%d intervals, %d links, %d attributes", want.Len(), len(want.Ended.Interval), len(want.Attributes))
	}
	got, err := read(written(t, waiting(20_000)))
	if err != nil {
		t.Fatal(err)
	}
	if !reflect.DeepEqual(got.Profile.Intervals, want) {
		t.Error("the intervals differ")
	}
	whole := waiting(20_000)
	var b bytes.Buffer
	w, err := take.NewWriter(&b, whole.Settings, whole.Machine)
	if err != nil {
		t.Fatal(err)
	}
	part := *whole.Profile
	for _, n := range []int{0, 1, 777, 10_000, want.Len()} {
		part.Intervals = upTo(want, n)
		if err := w.Append(&part); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Facts(whole.Facts); err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	if got, err = read(b.Bytes()); err != nil || !reflect.DeepEqual(got.Profile.Intervals, want) {
		t.Errorf("written bit by bit, the intervals differ (%v)", err)
	}
}

// upTo is what a growing profile has of intervals when there are n.
func upTo(v profile.Intervals, n int) profile.Intervals {
	count := func(at []uint32) (k int) {
		for k < len(at) && int(at[k]) < n {
			k++
		}
		return k
	}
	out := profile.Intervals{Start: v.Start[:n], Duration: v.Duration[:n], Thread: v.Thread[:n], Kind: v.Kind[:n], Stack: v.Stack[:n]}
	k := count(v.Ended.Interval)
	out.Ended = profile.Links{Interval: v.Ended.Interval[:k], Thread: v.Ended.Thread[:k], Stack: v.Ended.Stack[:k]}
	for _, a := range v.Attributes {
		if k := count(a.Interval); k > 0 {
			out.Attributes = append(out.Attributes, profile.Attribute{Name: a.Name, Type: a.Type, Interval: a.Interval[:k], Value: a.Value[:k]})
		}
	}
	return out
}

// TestBytesPerInterval: a wait or a system call takes at most 12 bytes in a file.
func TestBytesPerInterval(t *testing.T) {
	const n = 400_000
	with, without := len(written(t, waiting(n))), len(written(t, waiting(0)))
	if each := float64(with-without) / n; each > 12 {
		t.Errorf("%.1f bytes an interval", each)
	}
}

// TestIntervalsThatLie: intervals that point to what is not there are refused, wherever the lie is.
func TestIntervalsThatLie(t *testing.T) {
	for name, lie := range map[string]func(*profile.Intervals){
		"a thread":            func(v *profile.Intervals) { v.Thread[3] = 1 << 20 },
		"a stack":             func(v *profile.Intervals) { v.Stack[3] = 1 << 30 },
		"a kind":              func(v *profile.Intervals) { v.Kind[3] = 200 },
		"no kind":             func(v *profile.Intervals) { v.Kind[3] = 0 },
		"who ended it":        func(v *profile.Intervals) { v.Ended.Thread[0] = 1 << 20 },
		"where that was":      func(v *profile.Intervals) { v.Ended.Stack[0] = 1 << 30 },
		"an attribute's name": func(v *profile.Intervals) { v.Attributes[0].Name = 1 << 30 },
		"an attribute's type": func(v *profile.Intervals) { v.Attributes[0].Type = 9 },
		"an attribute's text": func(v *profile.Intervals) {
			v.Attributes[0].Type = profile.AttributeText
			v.Attributes[0].Value[0] = 1 << 40
		},
		"a text below 0": func(v *profile.Intervals) {
			v.Attributes[0].Type = profile.AttributeText
			v.Attributes[0].Value[0] = -1
		},
		"a measure's events":   func(v *profile.Intervals) { k, _ := profile.EventsOf(100); v.Kind[3] = k },
		"a time before it all": func(v *profile.Intervals) { v.Start[3] = -5 },
		"a time far ahead":     func(v *profile.Intervals) { v.Start[3] = 1 << 62 },
	} {
		tk := waiting(100)
		lie(&tk.Profile.Intervals)
		if _, err := read(written(t, tk)); err == nil {
			t.Errorf("%s that is not there was read", name)
		}
	}
}
