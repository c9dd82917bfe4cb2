package stacks_test

import (
	"bytes"
	"strconv"
	"strings"
	"testing"

	"entelon/codec/stacks"
	"entelon/core/invent"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scope"
)

func TestWrite(t *testing.T) {
	b := profile.NewBuilder()
	b.Measure("cpu", "ns", measure.Sum)
	th := b.Thread(b.Process(1), 1)
	f := func(name string, line uint32) profile.FrameID {
		return b.Frame(profile.Frame{Line: line, Function: b.Function(profile.Function{Name: b.Intern(name)})})
	}
	main := b.Push(0, f("main", 1))
	b.Sample(0, th, b.Push(main, f("a;b\nc", 2)), 1)
	b.Sample(1, th, main, 1)
	b.Sample(2, th, b.Push(b.Push(0, f("main", 9)), f("a;b\nc", 3)), 1) // other lines, the same functions
	var out bytes.Buffer
	if err := stacks.Write(&out, b.Profile(), 0, scope.Scope{}, false); err != nil {
		t.Fatal(err)
	}
	if want := "main 1\nmain;a:b c 2\n"; out.String() != want {
		t.Errorf("wrote %q, want %q", out.String(), want)
	}
}

func TestCountsSumToTheSamples(t *testing.T) {
	p := invent.Profile(2, invent.Small)
	var out bytes.Buffer
	if err := stacks.Write(&out, p, 0, scope.Scope{}, false); err != nil {
		t.Fatal(err)
	}
	sum, seen := 0, map[string]bool{}
	for line := range strings.Lines(out.String()) {
		i := strings.LastIndexByte(line, ' ')
		n, err := strconv.Atoi(strings.TrimSpace(line[i:]))
		if err != nil {
			t.Fatal(err)
		}
		sum += n
		if seen[line[:i]] {
			t.Errorf("the stack %q stands there twice", line[:i])
		}
		seen[line[:i]] = true
	}
	if sum != p.Samples.Len() {
		t.Errorf("the counts sum to %d, want %d", sum, p.Samples.Len())
	}
}
