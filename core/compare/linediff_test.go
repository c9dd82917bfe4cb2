package compare

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// TestBesideIsAScript: whatever the texts are, each line of both is there once and
// in its order, and lines stand beside each other only where they say the same.
func TestBesideIsAScript(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	text := func(n int) []string {
		out := make([]string, n)
		for i := range out {
			out[i] = fmt.Sprint(r.IntN(6))
		}
		return out
	}
	for range 400 {
		a, b := text(r.IntN(30)), text(r.IntN(30))
		var as, bs []string
		common := 0
		for _, p := range beside(a, b) {
			if p[0] >= 0 {
				as = append(as, a[p[0]])
			}
			if p[1] >= 0 {
				bs = append(bs, b[p[1]])
			}
			if p[0] >= 0 && p[1] >= 0 {
				common++
				if a[p[0]] != b[p[1]] {
					t.Fatalf("%q stands beside %q", a[p[0]], b[p[1]])
				}
			}
		}
		if !slices.Equal(as, a) || !slices.Equal(bs, b) {
			t.Fatalf("%v and %v became %v and %v", a, b, as, bs)
		}
		if want := longest(a, b); common != want {
			t.Fatalf("%v and %v: %d lines in common, want %d", a, b, common, want)
		}
	}
}

// longest is the length of the longest common subsequence, the slow way.
func longest(a, b []string) int {
	row := make([]int, len(b)+1)
	for i := range a {
		corner := 0
		for j := range b {
			next := max(row[j+1], row[j])
			if a[i] == b[j] {
				next = corner + 1
			}
			corner, row[j+1] = row[j+1], next
		}
	}
	return row[len(b)]
}

func TestBesideForgivesBlanksAndGivesUp(t *testing.T) {
	got := beside([]string{"if x {", "\treturn", "}"}, []string{"if x {", "\t\treturn ", "\tinked()", "}"})
	if want := [][2]int{{0, 0}, {1, 1}, {-1, 2}, {2, 3}}; !slices.Equal(got, want) {
		t.Errorf("%v, want %v", got, want)
	}
	if got := beside(strings.Split(strings.Repeat("a\n", maxEdits), "\n"), strings.Split(strings.Repeat("b\n", maxEdits), "\n")); got != nil {
		t.Errorf("two texts with nothing in common have %d rows", len(got))
	}
}
