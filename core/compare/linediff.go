package compare

import "strings"

// maxEdits bounds how different two texts may be for their lines to be set
// beside each other by what they say.
const maxEdits = 2000

// beside sets the lines of two texts beside each other, by the fewest lines that
// were taken out and put in (E. W. Myers, An O(ND) difference algorithm, 1986).
// Positions are from 0, -1 where a side has no such line. Lines that differ in
// blanks at their ends alone are the same. Two texts that have little in common
// give nil.
func beside(a, b []string) [][2]int {
	same := func(x, y int) bool { return strings.TrimSpace(a[x]) == strings.TrimSpace(b[y]) }
	n, m := len(a), len(b)
	limit := min(n+m, maxEdits)
	// How far along a one comes on each diagonal, edit by edit.
	furthest := make([]int, 2*limit+3)
	var trace [][]int
	at := func(v []int, k int) int { return v[k+limit+1] }
	edits := -1
	for d := 0; d <= limit && edits < 0; d++ {
		trace = append(trace, append([]int(nil), furthest[limit+1-d-1:limit+1+d+2]...))
		for k := -d; k <= d; k += 2 {
			x := at(furthest, k-1) + 1
			if k == -d || k != d && at(furthest, k-1) < at(furthest, k+1) {
				x = at(furthest, k+1)
			}
			for x < n && x-k < m && same(x, x-k) {
				x++
			}
			furthest[k+limit+1] = x
			if x >= n && x-k >= m {
				edits = d
				break
			}
		}
	}
	if edits < 0 {
		return nil
	}
	var back [][2]int
	x, y := n, m
	for d := edits; d >= 0; d-- {
		v := trace[d] // what was known before the d-th edit, from diagonal -d-1 on
		get := func(k int) int { return v[k+d+1] }
		k := x - y
		from := k - 1
		if k == -d || k != d && get(k-1) < get(k+1) {
			from = k + 1
		}
		fx := 0
		if d > 0 {
			fx = get(from)
		}
		fy := fx - from
		if d == 0 {
			fy = 0
		}
		for x > fx && y > fy {
			x, y = x-1, y-1
			back = append(back, [2]int{x, y})
		}
		if d > 0 {
			if x > fx {
				x--
				back = append(back, [2]int{x, -1})
			} else {
				y--
				back = append(back, [2]int{-1, y})
			}
		}
	}
	for i, j := 0, len(back)-1; i < j; i, j = i+1, j-1 {
		back[i], back[j] = back[j], back[i]
	}
	return back
}
