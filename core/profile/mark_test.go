package profile

import (
	"strings"
	"testing"
)

func TestMarks(t *testing.T) {
	keys := map[string]Mark{}
	for m := CutDeeper; m < marksEnd; m++ {
		if m == SystemCall || m == Group || m == Span {
			if m.Key() != "" {
				t.Errorf("%d has a key and has names", m)
			}
			continue
		}
		if m.Key() == "" || m.Words() == "" {
			t.Errorf("mark %d says nothing", m)
		}
		if other, twice := keys[m.Key()]; twice {
			t.Errorf("%d and %d are called %q", m, other, m.Key())
		}
		keys[m.Key()] = m
		// The words may change, what stands in earlier takes may not.
		if got := MarkNamed("[" + m.Key() + "]"); got != m {
			t.Errorf("%q is read as %d", m.Key(), got)
		}
		if m.CutOff() != strings.HasPrefix(m.Key(), cutOff) {
			t.Errorf("%q is cut off: %v", m.Key(), m.CutOff())
		}
		if got := Short("[" + m.Key() + "]"); got != "["+m.Words()+"]" {
			t.Errorf("%q is shown as %q", m.Key(), got)
		}
		if m.CutOff() {
			c := CutBy(m, 5)
			if c.Mark() != m || c.Reason == "" || c.Words() == "" || strings.HasPrefix(c.Words(), cutOff) {
				t.Errorf("%+v is %q", c, c.Words())
			}
		}
	}
	if MarkNamed("[system call openat]") != SystemCall || MarkNamed("[worker-1]") != MarkOther || Mark(200).Valid() || Mark(200).Key() != "" {
		t.Error("names that are no mark's key")
	}
}

// TestRewordingChangesNothingElse: with other words every mark is the same one, under
// the same name, and is idle and cut off as before.
func TestRewordingChangesNothingElse(t *testing.T) {
	b := NewBuilder()
	names := map[Mark]string{}
	for m := CutDeeper; m < marksEnd; m++ {
		key := m.Key()
		if m == SystemCall {
			key = SystemCallKey("openat")
		}
		f := b.Mark(m, key)
		names[m] = b.Profile().FunctionName(b.Profile().Frames[f].Function)
	}
	before := marks
	defer func() { marks = before }()
	for m := range marks {
		marks[m].words = "otherwise said"
	}
	c := NewBuilder()
	for m := CutDeeper; m < marksEnd; m++ {
		key := m.Key()
		if m == SystemCall {
			key = SystemCallKey("openat")
		}
		f := c.Profile().Frames[c.Mark(m, key)].Function
		if got := c.Profile().FunctionName(f); got != names[m] || c.Profile().Functions[f].Mark != m {
			t.Errorf("mark %d is now kept as %q, not %q", m, got, names[m])
		}
	}
	if got := Short("[" + WaitLock.Key() + "]"); got != "[otherwise said]" {
		t.Errorf("it is shown as %q", got)
	}
}
