package bisect

import (
	"math/rand/v2"
	"testing"
)

// TestFindsTheFirst: whatever the row and whatever cannot be told, the first bad
// one is found, or is among those that may be it; and few are asked about.
func TestFindsTheFirst(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	for range 3000 {
		n := 1 + r.IntN(200)
		first := r.IntN(n)
		undecided := map[int]bool{}
		for range r.IntN(4) {
			undecided[r.IntN(n)] = true
		}
		delete(undecided, n-1) // known to be bad
		s := Search{Len: n, Known: map[int]Answer{}}
		asked, told := 0, 0
		for {
			left := s.Left()
			at, ok := s.Next()
			if !ok {
				break
			}
			if left == 0 {
				t.Fatalf("%d of %d is asked about, with nothing left", at, n)
			}
			asked++
			switch {
			case undecided[at]:
				s.Known[at] = Undecided
			case at >= first:
				s.Known[at], told = Bad, told+1
			default:
				s.Known[at], told = Good, told+1
			}
		}
		bad, orElse := s.First()
		found := bad == first
		for _, i := range orElse {
			found = found || i == first
			if !undecided[i] {
				t.Fatalf("%d of %d could be told and was not asked about", i, n)
			}
		}
		if !found || bad < first {
			t.Fatalf("of %d the first bad is %d, found %d or %v", n, first, bad, orElse)
		}
		if told > 9 || asked > 9+len(undecided) { // log2 of 200, and one
			t.Fatalf("%d of %d were asked about", asked, n)
		}
	}
}
