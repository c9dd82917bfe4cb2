package language

import "strings"

// Nearest returns the candidate that a word was most likely meant to be: the one
// with the fewest edits, if they are few for its length; "" if none is near.
func Nearest(word string, candidates []string) string {
	best, edits := "", 1+len(word)/3
	lower := strings.ToLower(word)
	for _, c := range candidates {
		if d := distance(lower, strings.ToLower(c), edits); d <= edits && c != word {
			if d < edits || best == "" {
				best, edits = c, d
			}
		}
	}
	return best
}

// distance is how many characters have to be put in, left out, replaced or
// exchanged with the next to make b of a (Damerau and Levenshtein's, in the
// form in which no piece is edited twice); more than most if it is more.
func distance(a, b string, most int) int {
	x, y := []rune(a), []rune(b)
	if len(x)-len(y) > most || len(y)-len(x) > most {
		return most + 1
	}
	before, last, row := make([]int, len(y)+1), make([]int, len(y)+1), make([]int, len(y)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(x); i++ {
		row[0] = i
		for j := 1; j <= len(y); j++ {
			cost := 1
			if x[i-1] == y[j-1] {
				cost = 0
			}
			row[j] = min(last[j]+1, row[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && x[i-1] == y[j-2] && x[i-2] == y[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
		before, last, row = last, row, before
	}
	return last[len(y)]
}
