package measure

import "fmt"

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
			return scaled(f/1e9, "s")
		case a >= 1e6:
			return scaled(f/1e6, "ms")
		}
		return scaled(f/1e3, "µs")
	case Bytes:
		switch {
		case a >= 1<<30:
			return scaled(f/(1<<30), "GiB")
		case a >= 1<<20:
			return scaled(f/(1<<20), "MiB")
		case a >= 1<<10:
			return scaled(f/(1<<10), "KiB")
		}
		return fmt.Sprintf("%d B", v)
	}
	return fmt.Sprint(v)
}

func scaled(f float64, unit string) string {
	digits := 2
	switch a := max(f, -f); {
	case a >= 100:
		digits = 0
	case a >= 10:
		digits = 1
	}
	return fmt.Sprintf("%.*f %s", digits, f, unit)
}
