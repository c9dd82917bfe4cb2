package measure

import (
	"fmt"
	"math"
	"strings"
)

// Amount writes a value of a unit with the prefix that leaves three significant
// digits.
func Amount(v int64, unit Unit) string {
	f := float64(v)
	a := max(f, -f)
	switch unit {
	case Nanoseconds:
		switch {
		case v == 0:
			return "0 s"
		case a >= 1e9:
			return scaled(f, 1e9, "s")
		case a >= 1e6:
			return scaled(f, 1e6, "ms")
		}
		return scaled(f, 1e3, "µs")
	case Bytes:
		switch {
		case a >= 1<<30:
			return scaled(f, 1<<30, "GiB")
		case a >= 1<<20:
			return scaled(f, 1<<20, "MiB")
		case a >= 1<<10:
			return scaled(f, 1<<10, "KiB")
		}
		return fmt.Sprintf("%d B", v)
	}
	return grouped(v)
}

// grouped writes a number with a narrow space after each three digits.
func grouped(v int64) string {
	s := fmt.Sprint(v)
	first := strings.TrimPrefix(s, "-")
	for i := len(first) - 3; i > 0; i -= 3 {
		first = first[:i] + "\u202f" + first[i:]
	}
	return s[:len(s)-len(strings.TrimPrefix(s, "-"))] + first
}

// scaled writes a value in a larger unit. The page does the same, operation by
// operation, so that both round alike.
func scaled(v, scale float64, unit string) string {
	a, sign := v, ""
	if v < 0 {
		a, sign = -v, "-"
	}
	digits := 2
	switch {
	case a >= 100*scale:
		digits = 0
	case a >= 10*scale:
		digits = 1
	}
	n := fmt.Sprintf("%0*.0f", digits+1, math.Floor(a*math.Pow10(digits)/scale+0.5))
	if digits > 0 {
		n = n[:len(n)-digits] + "." + n[len(n)-digits:]
	}
	return sign + n + " " + unit
}
