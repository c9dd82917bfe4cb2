// Package bisect finds the first bad one of a row of which the last is bad, by
// asking about few of them. Some stay undecided: they are left out.
//
// A search belongs to one goroutine.
package bisect

// Answer is what is known of one of the row.
type Answer string

// The answers. Undecided ones could not be built, or the takes did not decide.
const (
	Good      Answer = "good"
	Bad       Answer = "bad"
	Undecided Answer = "undecided"
)

// Search is a row of Len, in order, with what is known. Before the first stands
// one that is good, and the last is bad.
type Search struct {
	Len   int
	Known map[int]Answer
}

// bounds returns the last that is known to be good, -1 for the one before the row,
// and the first behind it that is known to be bad.
func (s *Search) bounds() (good, bad int) {
	good, bad = -1, s.Len-1
	for i, a := range s.Known {
		if a == Bad && i < bad {
			bad = i
		}
	}
	for i, a := range s.Known {
		if a == Good && i > good && i < bad {
			good = i
		}
	}
	return good, bad
}

// Next returns the one to ask about, which leaves about as many on both sides;
// ok is false where nothing is left to ask.
func (s *Search) Next() (at int, ok bool) {
	good, bad := s.bounds()
	middle := good + (bad-good)/2
	for d := 0; d < bad-good; d++ {
		for _, i := range []int{middle - d, middle + d} {
			if _, known := s.Known[i]; i > good && i < bad && !known {
				return i, true
			}
		}
	}
	return 0, false
}

// First returns the first bad one, and those before it that may be it instead,
// since they could not be told.
func (s *Search) First() (bad int, orElse []int) {
	good, bad := s.bounds()
	for i := good + 1; i < bad; i++ {
		orElse = append(orElse, i)
	}
	return bad, orElse
}

// Left is about how many are still to be asked about.
func (s *Search) Left() int {
	good, bad := s.bounds()
	n := 0
	for span := bad - good; span > 1; span = (span + 1) / 2 {
		n++
	}
	return n
}
