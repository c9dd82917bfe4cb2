package scope_test

import (
	"testing"

	"entelon/core/made"
	"entelon/core/profile"
	"entelon/core/scope"
)

func TestAdjacentTimesShareNoSample(t *testing.T) {
	p := made.Profile(1, made.Small)
	_, last := p.Span()
	cuts := []int64{0, 1, 300e6, 300e6 + 1, 900e6, last, 0}
	counted := 0
	for i := 0; i+1 < len(cuts); i++ {
		in := scope.Scope{From: cuts[i], To: cuts[i+1]}.Contains(p)
		for s := range p.Samples.Len() {
			if in(s) {
				counted++
			}
		}
	}
	if counted != p.Samples.Len() {
		t.Errorf("the pieces of the time hold %d samples, the whole %d", counted, p.Samples.Len())
	}
}

func TestThreadsShareNoSample(t *testing.T) {
	p := made.Profile(2, made.Small)
	counted := 0
	for id := range p.Threads {
		in := scope.Scope{Threads: []profile.ThreadID{profile.ThreadID(id)}}.Contains(p)
		for s := range p.Samples.Len() {
			if in(s) {
				counted++
				if p.Samples.Thread[s] != profile.ThreadID(id) {
					t.Fatalf("sample %d is of another thread", s)
				}
			}
		}
	}
	if counted != p.Samples.Len() {
		t.Errorf("the threads hold %d samples, the whole %d", counted, p.Samples.Len())
	}
}

func TestAll(t *testing.T) {
	for s, want := range map[*scope.Scope]bool{{}: true, {From: 5}: false, {To: 5}: false, {Threads: []profile.ThreadID{0}}: false} {
		if s.All() != want {
			t.Errorf("%+v holds all: %v", *s, s.All())
		}
	}
	folded := made.Profile(3, made.Small)
	folded.Samples.Time = nil // a profile without times cannot be restricted by them
	if in := (scope.Scope{From: 5}).Contains(folded); !in(0) {
		t.Error("a sample without a time was left out")
	}
}
